package reads

// table is what is known to read, in the form that Add describes. A program of which a form that alters is hard to tell
// from one that reads is left out (blkid and findmnt, which write a cache, top, apt-cache, awk, sed and all shells
// are). Sources: the manual pages of Debian 13, and of each program its own.
const table = `
cat|head|tail|wc|cut|tr|tac|nl|od|stat|ls|df|du|readlink|realpath|id|groups|uptime|free|nproc: any
uname|ps|pgrep|pidof|vmstat|lscpu|lsmod|getent|grep|cmp|sha256sum|md5sum|echo|printf|true|false: any
test: any
lsblk: any
sort: any! -o --output -T --temporary-directory --compress-program
uniq: -c -d -u *
date: -u +*
hostname: -f -s -I
jq: any! --run-tests -L --library-path
find: any! -delete -exec -execdir -ok -okdir -fprint -fprint0 -fprintf -fls
dmesg: -T -x -k -l=
journalctl: -u= -n= -p= -S= -U= -g= -t= -b -k -q -r -o= --no-pager --since= --until= --unit= --lines= --output=
systemctl: --no-pager -p= --property= --value -l -n= (status|show|is-active|is-enabled|is-failed|cat) **
systemctl: --no-pager --no-legend --plain --all --state= --type= (list-units|list-timers|list-sockets|list-jobs) **
systemctl: --no-pager --no-legend --plain --failed
timedatectl: (show|status) **
service: * status
dpkg-query: -l -s -L -S -W -f= **
openssl: x509 -in= -noout -enddate -startdate -subject -issuer -serial -fingerprint -checkend= -text
chronyc: -n -c (tracking|sources|sourcestats|activity)
ip: -s -j -o -4 -6 -br (addr|link|route|neigh) show **
ss: any! -K --kill -D --diag -F --filter -N --net
ping: -c= -W= -n -q -i= -s= -4 -6 *
dig|host: any! -f -k -y
curl^: -s -S -f -I -m= --max-time= -k http*
pg_isready: any
psql^: -l
redis-cli^: -h= -p= --raw --no-raw (INFO|PING|TTL|TYPE|LLEN|STRLEN|HLEN|SCARD|ZCARD|DBSIZE|LASTSAVE|EXISTS) **
redis-cli^: -h= -p= --raw --no-raw (info|ping|ttl|type|llen|strlen|hlen|scard|zcard|dbsize|lastsave|exists) **
mysqladmin^: -h= -P= -u= (ping|status|processlist|variables)
docker^: --no-trunc -a -q -f= --format= --tail= --since= (ps|images|inspect|logs|top|port|info) **
kubectl^: -n= -o= -l= -A --tail= --since= (get|describe|logs|top|version) **
`
