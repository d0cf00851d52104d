set -e
cd "$1"
trap 'kill $(cat pid collector.pid 2>/dev/null) 2>/dev/null || true' EXIT
ip link set lo up
cp -p /etc/passwd /etc/shadow .
for i in 1 2; do
    user=$(echo anna bert | cut -d' ' -f$i)
    echo "$user:x:2100$i:65534::/tmp:/bin/sh" >> passwd; echo "$user:*:20000:0:99999:7:::" >> shadow
done
for f in passwd shadow; do mount --bind $f /etc/$f; done
for f in wtmp btmp lastlog; do touch $f /var/log/$f; mount --bind $f /var/log/$f; done
chmod 600 btmp
touch utmp /run/utmp; mount --bind utmp /run/utmp
mkdir dev; cp -a /dev/. dev/ 2>/dev/null || true
mkdir -p dev/pts dev/shm; mount --bind /dev/pts dev/pts; rm -f dev/log dev/ptmx; ln -s pts/ptmx dev/ptmx
mount --rbind dev /dev
cat > collect.conf <<C
module(load="imuxsock" SysSock.Name="/dev/log" SysSock.UsePIDFromSystem="off" SysSock.IgnoreTimestamp="off")
*.* action(type="omfile" file="$1/old.log" template="RSYSLOG_TraditionalFileFormat")
*.* action(type="omfile" file="$1/new.log" template="RSYSLOG_SyslogProtocol23Format")
*.* action(type="omfile" file="$1/full.log" template="RSYSLOG_FileFormat")
C
rsyslogd -n -f collect.conf -i "$1/collector.pid" & collector=$!
for i in $(seq 50); do [ -S /dev/log ] && break; sleep 0.1; done
ssh-keygen -q -t ed25519 -N '' -f host; ssh-keygen -q -t ed25519 -N '' -f key
mkdir -p /run/sshd; mount -t tmpfs -o mode=755 none /run/sshd; cp key.pub /run/sshd/authorized
printf '%s\n' "Port 22022" "ListenAddress 127.0.0.1" "HostKey $1/host" "AuthorizedKeysFile /run/sshd/authorized" \
    "StrictModes no" "UsePAM yes" "PasswordAuthentication yes" "KbdInteractiveAuthentication no" "PidFile $1/pid" > conf
/usr/sbin/sshd -f conf
quiet() { ssh -p 22022 -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR "$@" </dev/null >/dev/null 2>&1; }
for user in anna anna bert; do quiet -tt -i key $user@127.0.0.1 "sleep 1.2"; done
printf '#!/bin/sh\necho wrong\n' > ask; chmod +x ask
export SSH_ASKPASS="$1/ask" SSH_ASKPASS_REQUIRE=force DISPLAY=none
for user in bert nobody-here; do
    quiet -o PubkeyAuthentication=no -o NumberOfPasswordPrompts=1 $user@127.0.0.1 true || true
done
sudo -n true; sudo -n -u anna true
kill "$(cat pid)"; sleep 0.5
export TZ=UTC
last -F -w -f wtmp > last.txt; last --time-format iso -w -f wtmp > last-iso.txt; lastb -F -w -f btmp > lastb.txt
last -w -f wtmp > last-short.txt; utmpdump wtmp > dump.txt 2>/dev/null; lastlog > latest.txt; who wtmp > who.txt
kill $collector; wait $collector || true

