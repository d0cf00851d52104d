set -e
cd "$1"
trap 'kill $(jobs -p) $(cat collector.pid proxy.pid 2>/dev/null) 2>/dev/null || true' EXIT
ip link set lo up
mkdir dev; cp -a /dev/. dev/ 2>/dev/null || true; rm -f dev/log; mount --rbind dev /dev
printf '%s\n' 'module(load="imuxsock" SysSock.Name="/dev/log" SysSock.UsePIDFromSystem="off")' \
    "*.* action(type=\"omfile\" file=\"$1/all.log\" template=\"RSYSLOG_TraditionalFileFormat\")" > collect.conf
rsyslogd -n -f collect.conf -i "$1/collector.pid" &
for i in $(seq 50); do [ -S /dev/log ] && break; sleep 0.1; done
sqlite3 calls.db < /usr/share/kamailio/db_sqlite/acc-create.sql 2>/dev/null || true
sqlite3 calls.db "ALTER TABLE acc ADD src_user TEXT; ALTER TABLE acc ADD src_domain TEXT; ALTER TABLE acc ADD src_ip TEXT;
    ALTER TABLE acc ADD dst_user TEXT; ALTER TABLE acc ADD dst_domain TEXT"
kamailio -DD -f proxy.cfg -P "$1/proxy.pid" > proxy.err 2>&1 &
sleep 2
"$2" -c "import tests.producers.services as s; s.phones(15060, 15070)"
sleep 1
grep "ACC: transaction\|ACC: call missed" all.log > proxy.log || true
grep "duration=" all.log > finished.log || true
