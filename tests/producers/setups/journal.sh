set -e
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
