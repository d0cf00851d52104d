set -e
cd "$1"
trap 'kill $(jobs -p) 2>/dev/null || true' EXIT
ip link set lo up
unshare -n sleep 60 & desk=$!   # the clients have a network of their own at the other end of the line
sleep 0.3
ip link add hall0 type veth peer name desk0 netns $desk
ip addr add 10.77.0.1/24 dev hall0; ip link set hall0 up
nsenter -n -t $desk ip link set desk0 up
ask() { nsenter -n -t $desk "$1" -c "import tests.producers.network as n; n.clients('desk0')"; }
dnsmasq --no-daemon --conf-file=/dev/null --port=0 --interface=hall0 --bind-interfaces --dhcp-range=10.77.0.50,10.77.0.90,1h \
    --dhcp-leasefile="$1/dnsmasq.leases" --log-dhcp --log-facility="$1/dnsmasq.log" --pid-file= --user=root & first=$!
for i in $(seq 50); do grep -q ":0043 " /proc/net/udp && break; sleep 0.1; done
ask "$2"
kill $first; wait $first 2>/dev/null || true
printf '%s\n' 'default-lease-time 3600; max-lease-time 3600; authoritative;' \
    'subnet 10.77.0.0 netmask 255.255.255.0 { range 10.77.0.50 10.77.0.90; }' > dhcpd.conf
touch dhcpd.leases
dhcpd -f -4 -cf "$1/dhcpd.conf" -lf "$1/dhcpd.leases" -pf "$1/dhcpd.pid" hall0 2> dhcpd.err &
for i in $(seq 50); do grep -q ":0043 " /proc/net/udp && break; sleep 0.1; done
sleep 1
ask "$2"
sleep 0.5
