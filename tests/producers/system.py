"""What the system itself writes: logins by a login daemon, other users' rights, packages; in a mount namespace."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from tests.producers.daemons import Written, needs, run

LOGINS = r"""set -e
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

"""


def logins(path: Path) -> list[Written]:
    """A login daemon used by three people: the system's log in three forms, login records and their lists."""
    needs("sshd", "ssh", "rsyslogd", "last", "lastb", "utmpdump", "unshare", "sudo", root=True)
    (path / "logins.sh").write_text(LOGINS)
    run("unshare", "-mn", "bash", str(path / "logins.sh"), str(path))
    opened = {("login", "anna"): 2, ("login", "bert"): 1}
    failed = {("failed", "bert"): 1, ("failed", "nobody-here"): 1}
    told = Counter({**opened, **failed, ("logout", "anna"): 2, ("logout", "bert"): 1})
    # a name that nobody has stands in these records twice: when it is given, and when its password fails
    refused = Counter({("failed", "bert"): 1, ("failed", "nobody-here"): 2})
    listed = Counter({("anna", "127.0.0.1"): 2, ("bert", "127.0.0.1"): 1})
    return [
        *(Written(path / f"{n}.log", ("action", "user"), told) for n in ("old", "new", "full")),
        Written(path / "wtmp", ("action", "user"), Counter(opened), only={"action": ("login",)}),
        Written(path / "btmp", ("action", "user"), refused),
        Written(path / "last.txt", ("user", "other"), listed),
        Written(path / "last-iso.txt", ("user", "other"), listed),
        Written(
            path / "lastb.txt", ("user", "other"), Counter({("bert", "127.0.0.1"): 1, ("nobody-here", "127.0.0.1"): 2})
        ),
        Written(path / "dump.txt", ("action", "user"), Counter(opened), only={"action": ("login",)}),
        Written(path / "latest.txt", ("user", "other"), Counter({("anna", "127.0.0.1"): 1, ("bert", "127.0.0.1"): 1})),
    ]


CONTROL = """Package: {name}
Version: {version}
Architecture: all
Maintainer: Nobody <nobody@hall.example>
Description: nothing
"""


def packages(path: Path) -> list[Written]:
    """A package manager's log: installed, renewed, removed, into a folder of its own."""
    needs("dpkg", "dpkg-deb", root=True)
    for folder in ("root/var/lib/dpkg/info", "root/var/lib/dpkg/updates", "root/var/lib/dpkg/triggers"):
        (path / folder).mkdir(parents=True)
    (path / "root/var/lib/dpkg/status").touch()
    tool = ("dpkg", "--root", str(path / "root"), "--log", str(path / "packages.log"), "--force-all")
    for name, version in (("hall-one", "1.0"), ("hall-two", "2.1"), ("hall-one", "1.1")):
        made = path / name / version
        (made / "DEBIAN").mkdir(parents=True)
        (made / "DEBIAN" / "control").write_text(CONTROL.format(name=name, version=version))
        run("dpkg-deb", "--build", str(made), str(path / "made.deb"))
        run(*tool, "--install", str(path / "made.deb"))
    run(*tool, "--remove", "hall-two")
    truth = {("install", "hall-one:all"): 1, ("install", "hall-two:all"): 1,
             ("upgrade", "hall-one:all"): 1, ("remove", "hall-two:all"): 1}  # fmt: skip
    return [Written(path / "packages.log", ("action", "other"), Counter(truth),
                    only={"action": ("install", "upgrade", "remove")})]  # fmt: skip


JOURNAL = r"""set -e
mkdir -p /run/systemd/journal "$1/run" "$1/log"
mount --bind "$1/run" /run/systemd/journal
mount -t tmpfs none /run/log 2>/dev/null || { mkdir -p /run/log; mount -t tmpfs none /run/log; }
/lib/systemd/systemd-journald & journal=$!
for i in $(seq 50); do [ -S /run/systemd/journal/socket ] && break; sleep 0.1; done
"$2" - <<P
import socket
def tell(**fields):
    s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    s.connect("/run/systemd/journal/socket")
    s.send("".join(f"{k}={v}\n" for k, v in fields.items()).encode())
for user, pid in (("anna", 11), ("anna", 12), ("bert", 13)):
    about = {"SYSLOG_IDENTIFIER": "sshd", "SYSLOG_PID": pid, "PRIORITY": 6}
    tell(MESSAGE=f"Accepted publickey for {user} from 10.0.0.7 port 51514 ssh2: ED25519 SHA256:abc", **about)
    tell(MESSAGE=f"pam_unix(sshd:session): session closed for user {user}", **about)
tell(MESSAGE="Failed password for bert from 10.0.0.9 port 4022 ssh2", SYSLOG_IDENTIFIER="sshd", PRIORITY=6)
P
sleep 0.5
journalctl --output json > "$1/journal.json"
kill $journal; wait $journal || true
"""


def journal(path: Path) -> list[Written]:
    """The journal of the system as JSON, told the messages of a login daemon."""
    import sys

    needs("unshare", "journalctl", root=True)
    (path / "journal.sh").write_text(JOURNAL)
    run("unshare", "-m", "bash", str(path / "journal.sh"), str(path), sys.executable)
    told = {
        ("login", "anna"): 2,
        ("login", "bert"): 1,
        ("logout", "anna"): 2,
        ("logout", "bert"): 1,
        ("failed", "bert"): 1,
    }
    return [Written(path / "journal.json", ("action", "user"), Counter(told))]
