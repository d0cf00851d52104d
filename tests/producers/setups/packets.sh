set -e
cd "$1"
trap 'kill $(jobs -p) 2>/dev/null || true' EXIT
ip link set lo up
printf '%s\n' '[global]' "logfile=$1/ulogd.log" 'stack=log1:NFLOG,base1:BASE,ifi1:IFINDEX,ip2str1:IP2STR,print1:PRINTPKT,emu1:LOGEMU' \
    '[log1]' 'group=0' '[emu1]' "file=$1/packets.log" 'sync=1' > ulogd.conf
ulogd -c ulogd.conf &
iptables -A INPUT -p udp --dport 4242 -j NFLOG --nflog-group 0 --nflog-prefix "refused "
iptables -A INPUT -p udp --dport 4242 -j DROP
sleep 1
for i in 1 2 3 4; do echo text > /dev/udp/127.0.0.1/4242; done
for i in $(seq 50); do [ "$(wc -l < packets.log)" = 4 ] && break; sleep 0.1; done
