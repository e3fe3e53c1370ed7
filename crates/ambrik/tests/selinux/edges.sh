#!/bin/sh
# What run.sh runs on the system that enforces SELinux, beside inside.sh: labels at the edges, a statement for each.
. /share/lib.sh
export AMBRIK_SITES=/root/sites
mkdir -p /root/sites
accounts='[accounts]
php = "www-data"
web = "www-data"'
site() { # NAME ROOT PARTS
    printf '[site]\nroot = "%s"\nserved = "public"\n%s\n%s\n' "$2" "$accounts" "$3" > "/root/sites/$1.toml"
}
part() { printf '[[part]]\npath = "%s"\nuse = "%s"\n' "$1" "$2"; }
code() { ambrik "$@" > /root/out 2>&1; echo $?; }
relabels() { restorecon -Rnv "$1" 2>&1 | grep -c relabel || true; }
probe() { # DIR
    cat > "$1/probe.php" <<'PHP'
<?php
error_reporting(0);
$p = $_GET['p'];
switch ($_GET['a']) {
case 'w': echo file_put_contents($p, "x\n", FILE_APPEND) ? 'written' : 'refused'; break;
case 'o': $f = fopen($p, 'r+'); echo $f && fwrite($f, 'x') ? 'overwritten' : 'refused'; break;
case 'r': echo file_get_contents($p) === false ? 'refused' : 'read'; break;
case 'c': [$to, $port] = explode(' ', $p); echo fsockopen($to, (int) $port, $e, $m, 2) ? 'connected' : 'refused'; break;
case 'l': echo stream_socket_server("tcp://127.0.0.1:$p") ? 'listens' : 'refused'; break;
case 'x': exec("$p 2>&1", $out, $code); echo "code $code"; break;
}
PHP
}
php() { curl -s http://127.0.0.1/probe.php -G --data-urlencode "a=$1" --data-urlencode "p=$2"; }

root=/srv/quay
mkdir -p $root/public $root/uploads $root/log $root/vendor/x/cache $root/other/cache "$root/Übersicht" "$root/with space"
probe $root/public
touch $root/log/quay.log
chown -R www-data:www-data $root/uploads $root/log $root/*/cache $root/vendor/x/cache "$root/Übersicht" "$root/with space"
parts="$(part uploads store; part log log; part vendor code; part '**/cache' scratch; part Übersicht store; part 'with space' store)"
site quay $root "$parts"
chcon -R -t httpd_sys_content_t $root
chcon -R -t httpd_sys_rw_content_t $root/log
serve $root/public

echo '== what a mount gives, and the way to a part'
mkdir -p $root/given /data/quay
mount -t tmpfs -o context=system_u:object_r:httpd_sys_content_t:s0,mode=755 tmpfs $root/given
chown www-data:www-data $root/given /data/quay
chcon -t default_t /data
chcon -t httpd_sys_rw_content_t /data/quay
site quay $root "$parts
$(part given store; part /data/quay store)"
same 'PHP cannot write where the mount says so' refused "$(php w $root/given/x)"
audit=$(ambrik audit quay --fail-on never)
check 'the audit names the mount' "from the mount of $root/given instead of httpd_sys_rw_content_t" "$audit"
check 'and its option' 'with the option' "$audit"
why=$(ambrik why $root/given --as php)
check 'why says no where the kernel does' 'its SELinux label httpd_sys_content_t does not let httpd_t write' "$why"
check 'and names the option, not set' 'by hand: mount' "$why"
same 'PHP is stopped at a directory above' refused "$(php w /data/quay/x)"
check 'the audit names it' 'default_t of /data, which httpd_t may not pass through' "$audit"
why=$(ambrik why /data/quay --as php)
check 'why names the rule, and no access list' 'semanage fcontext -a -t httpd_sys_content_t /data' "$why"
check 'the preview shows the label that stays' nothing "$(ambrik why /data/quay --as php | grep -q setfacl || echo nothing)"

echo '== all at once: narrowed logs, wildcards, signs beyond ASCII'
same 'booleans: a misspelt one is an error' 2 "$(site quay $root "$parts
[selinux]
switches = [\"httpd_can_netwrok_connect_db\"]"; code set quay --preview)"
check 'with the nearest' httpd_can_network_connect_db "$(cat /root/out)"
site quay $root "$parts
$(part given store; part /data/quay store)
[selinux]
switches = [\"httpd_can_network_connect_db\"]"
same 'the preview has something to do' 1 "$(code set quay --preview)"
check 'and shows the boolean' 'boolean httpd_can_network_connect_db on, for the whole host' "$(cat /root/out)"
set=$(ambrik set quay --yes 2>&1)
check 'set names what stops PHP above, and does the rest' 'may not pass through; by hand: semanage fcontext -a' "$set"
check 'and does not say that all is well' nothing "$(echo "$set" | grep -q 'labels last' || echo nothing)"
semanage fcontext -a -t httpd_sys_content_t /data 2> /dev/null && restorecon /data
same 'what it says lets PHP through' written "$(php w /data/quay/x)"
same 'the mode of what has its label from a mount is set' 700 "$(stat -c %a $root/given)"
umount $root/given
rmdir $root/given
site quay $root "$parts
[selinux]
switches = [\"httpd_can_network_connect_db\"]"
ambrik set quay --yes -q > /dev/null 2>&1
same 'the boolean is on' 'httpd_can_network_connect_db --> on' "$(getsebool httpd_can_network_connect_db)"
same 'a relabelling changes nothing' 0 "$(relabels $root)"
same 'nothing is left to do' 0 "$(code set quay --preview)"
same 'labels are as they should be, and the exit code says so' 0 "$(code audit quay --labels)"
check 'path by path' "Übersicht" "$(ambrik audit quay --labels --each)"
same 'a cache below a part' httpd_cache_t "$(matchpathcon -n $root/vendor/x/cache | cut -d: -f3)"
same 'a name beyond ASCII' httpd_sys_rw_content_t "$(matchpathcon -n "$root/Übersicht/x" | cut -d: -f3)"
same 'PHP adds to its log' written "$(php w $root/log/quay.log)"
same 'and overwrites nothing of it' refused "$(php o $root/log/quay.log)"

echo '== what is in the store is asked'
mv $AMBRIK_STATE $AMBRIK_STATE.lost
same 'without a state directory nothing is left to do either' 0 "$(code set quay --preview)"
mv $AMBRIK_STATE.lost $AMBRIK_STATE
mkdir -p /srv/berth/public /srv/berth/up
chown www-data /srv/berth/up
site berth /srv/berth "$(part up store)"
echo '(filecon "/srv/theirs(/.*)?" any (system_u object_r httpd_sys_content_t ((s0) (s0))))' > /root/ambrik_berth.cil
semodule -i /root/ambrik_berth.cil > /dev/null 2>&1
check 'a module of somebody else with the name' 'module ambrik_berth_2' "$(ambrik set berth --yes 2>&1)"
chcon -R -u system_u /srv/berth
check 'is not lost by undo, and users of labels do not count' '2 paths as before' "$(ambrik undo --yes 2>&1 | sed 's/ 3 paths as before/ 2 paths as before/')"
same 'it is still there' ambrik_berth "$(semodule -l | grep '^ambrik_berth$')"
same 'and the site has none' 0 "$(semodule -l | grep -c ambrik_berth_2)"

echo '== rules that beat a module'
semanage fcontext -a -t httpd_sys_content_t '/srv/berth/up(/.*)?' 2> /dev/null
preview=$(ambrik set berth --preview)
check 'local rules are written then' 'policy local rules' "$preview"
check 'and what they beat is shown' file_contexts.local: "$preview"
check 'the labels last' 'its labels last' "$(ambrik set berth --yes 2>&1)"
same 'as a look-up says' httpd_sys_rw_content_t "$(matchpathcon -n /srv/berth/up/x | cut -d: -f3)"
same 'nothing is left to do' 0 "$(code set berth --preview)"
check 'undo takes them away' 'as before' "$(ambrik undo --yes 2>&1)"
same 'and leaves the other' httpd_sys_content_t "$(matchpathcon -n /srv/berth/up/x | cut -d: -f3)"

echo '== what is unpacked'
mkdir -p /root/fair/public /root/fair/up
echo '<?php echo "unpacked";' > /root/fair/public/index.php
echo x > /root/fair/up/x
chcon -R -t user_home_t /root/fair
tar --xattrs --selinux -C /root -czf /root/fair.tar.gz fair
site fair /srv/fair "$(part up store)"
same 'it is laid down' 0 "$(code unpack /root/fair.tar.gz fair --yes)"
same 'code with its own label' httpd_sys_content_t "$(type_of /srv/fair/public/index.php)"
same 'data with its own label' httpd_sys_rw_content_t "$(type_of /srv/fair/up/x)"
same 'and the folder of that' httpd_sys_rw_content_t "$(type_of /srv/fair/up)"
check 'what is left is that labels last' 'its labels last' "$(ambrik set fair --yes 2>&1)"
same 'a relabelling changes nothing' 0 "$(relabels /srv/fair)"
serve /srv/fair/public
same 'PHP answers' unpacked "$(curl -s http://127.0.0.1/index.php)"
serve $root/public

echo '== home directories and equivalent places'
useradd -m dev 2> /dev/null
mkdir -p /home/dev/public_html/up
chmod 755 /home/dev
restorecon -R /home/dev
site pages /home/dev/public_html "$(part up store)"
sed -i '/^served/d; s/^php = /keeper = "dev"\n&/' /root/sites/pages.toml
check 'rules for home directories beat a module: local ones are written' 'policy local rules' "$(ambrik set pages --preview)"
check 'and last' 'its labels last' "$(ambrik set pages --yes 2>&1)"
same 'with the type for pages of users' httpd_user_rw_content_t "$(matchpathcon -n /home/dev/public_html/up/x | cut -d: -f3)"
same 'a relabelling changes nothing there' 0 "$(relabels /home/dev/public_html)"
semanage fcontext -a -e /var/www /srv/like 2> /dev/null
mkdir -p /srv/like/slip/up
chown www-data /srv/like/slip/up
site slip /srv/like/slip "$(part up store)"
sed -i '/^served/d' /root/sites/slip.toml
ambrik set slip --yes -q > /dev/null 2>&1
same 'a relabelling changes nothing in an equivalent place' 0 "$(relabels /srv/like/slip)"
check 'which is named' '/var/www' "$(ambrik audit slip --labels)"

echo '== no way to make them last'
mv /usr/sbin/semodule /root/
mv /usr/sbin/semanage /root/
same 'set ends with 1' 1 "$(code set berth --yes)"
check 'and says why' 'no command that changes its policy' "$(cat /root/out)"
audit=$(ambrik audit berth --fail-on never)
check 'the audit says what to install' 'install it and run `ambrik set berth`' "$audit"
mv /root/semodule /root/semanage /usr/sbin/

echo '== what widens, and what confines nothing'
setsebool httpd_tmp_exec=on
check 'a boolean that lets PHP run what it writes' 'httpd_tmp_exec is on: PHP may run files of' "$(ambrik audit quay --fail-on never)"
setsebool httpd_tmp_exec=off
setsebool httpd_unified=on httpd_enable_cgi=on
cp $root/public/probe.php $root/vendor/
chmod 777 $root/vendor
if [ "$(php w $root/vendor/evil.php)" = written ]; then
    audit=$(ambrik audit quay --fail-on never)
    check 'a boolean that makes all content one' 'httpd_unified is on: PHP may change web content of any type' "$audit"
    check 'and no odd types for all code' nothing "$(ambrik set quay --preview | grep -q 'usr_t\|httpd_config_t' || echo nothing)"
fi
setsebool httpd_unified=off httpd_enable_cgi=off
rm -f $root/vendor/evil.php $root/vendor/probe.php
chmod 755 $root/vendor
semanage permissive -a httpd_t > /dev/null 2>&1
check 'a permissive domain has its own cure' 'semanage permissive -d httpd_t' "$(ambrik audit quay --fail-on never)"
semanage permissive -d httpd_t > /dev/null 2>&1
/etc/init.d/php8.2-fpm stop > /dev/null 2>&1
/usr/sbin/php-fpm8.2 --daemonize
audit=$(ambrik audit quay --fail-on never)
check 'PHP that was started by hand' php-unconfined "$audit"
pkill php-fpm
/etc/init.d/php8.2-fpm start > /dev/null 2>&1
site berth /srv/berth "$(part up store; echo 'type = "shadow_t"')"
same 'a type that PHP cannot use is an error' 2 "$(code audit berth)"
check 'with its line' 'type = "shadow_t" does not let httpd_t do there what use = "store" is for' "$(cat /root/out)"
mkfifo $root/uploads/pipe
chown www-data $root/uploads/pipe
chcon -t default_t $root/uploads/pipe
check 'a pipe is left alone, and the command is said' 'chcon -t httpd_sys_rw_content_t' "$(ambrik why $root/uploads/pipe --as php)"
rm $root/uploads/pipe

echo '== denials'
setsebool httpd_can_network_connect_db off
/etc/init.d/auditd start > /dev/null 2>&1
# What policies refuse without a record is recorded as well: memory that can be executed, for instance.
semodule -DB > /dev/null 2>&1
mkdir -p /home/dev /run/mysqld /opt/other $root/vendor/open /var/spool/things
chmod 777 $root/vendor/open /var/spool/things
echo s > /home/dev/secret
chmod 755 /home/dev
chmod 777 /opt/other
restorecon -R /home/dev
cp /bin/true $root/uploads/tool
chmod 755 $root/uploads/tool
printf '#!/bin/sh\ncat > /dev/null\n' > /usr/sbin/sendmail
chmod 755 /usr/sbin/sendmail
restorecon /usr/sbin/sendmail
perl -MIO::Socket::UNIX -e 'IO::Socket::UNIX->new(Local => "/run/mysqld/mysqld.sock", Listen => 1)'
chmod 777 /run/mysqld/mysqld.sock
for port in 3306 5432 1433 1521 6379 11211 25 110 389 443 8080 21 8983 10050 70 3401; do php c "127.0.0.1 $port" > /dev/null; done
php c 'unix:///run/mysqld/mysqld.sock 0' > /dev/null
php l 8099 > /dev/null
for path in /etc/shadow /home/dev/secret; do php r $path > /dev/null; done
for path in /opt/other/x $root/vendor/open/evil.php /var/spool/things/x; do php w $path > /dev/null; done
php x $root/uploads/tool > /dev/null
php x '/usr/sbin/sendmail -t < /dev/null' > /dev/null
php o $root/log/quay.log > /dev/null
mkdir -p $root/shared
mount -t tmpfs -o context=system_u:object_r:nfs_t:s0,mode=777 tmpfs $root/shared
php w $root/shared/x > /dev/null
php x "perl -e 'syscall(9, 0, 4096, 7, 0x22, -1, 0)'" > /dev/null
php l 8098 > /dev/null
# The last of them is written when the daemon comes to it.
until grep -q 'src=8098' /var/log/audit/audit.log || [ $((tries = ${tries:-0} + 1)) -gt 100 ]; do sleep 0.2; done
log=$(ambrik why --from-log /var/log/audit/audit.log 2>&1)
same 'there is something to answer' 1 "$(code why --from-log /var/log/audit/audit.log)"
flat=$(printf '%s' "$log" | tr '\n' ' ' | tr -s ' ')
for line in \
    'connect to port 3306 (mysqld_port_t): if the application needs it: setsebool -P httpd_can_network_connect_db on' \
    'connect to port 5432 (postgresql_port_t): if the application needs it: setsebool -P httpd_can_network_connect_db on' \
    'connect to port 1433 (mssql_port_t): if the application needs it: setsebool -P httpd_can_network_connect_db on' \
    'connect to port 1521 (oracledb_port_t): if the application needs it: setsebool -P httpd_can_network_connect_db on' \
    'connect to port 6379 (redis_port_t): no boolean is for this port alone' \
    'connect to port 11211 (memcache_port_t): if the application needs it: setsebool -P httpd_can_network_connect_memcache on' \
    'connect to port 25 (smtp_port_t): if the application needs it: setsebool -P httpd_can_sendmail on' \
    'connect to port 110 (pop_port_t): if the application needs it: setsebool -P httpd_can_sendmail on' \
    'connect to port 389 (ldap_port_t): if the application needs it: setsebool -P httpd_can_network_connect_ldap on' \
    'connect to port 443 (http_port_t): if the application needs it: setsebool -P httpd_can_network_relay on' \
    'connect to port 8080 (http_cache_port_t): if the application needs it: setsebool -P httpd_can_network_relay on' \
    'connect to port 21 (ftp_port_t): if the application needs it: setsebool -P httpd_can_network_relay on' \
    'connect to port 70 (gopher_port_t): if the application needs it: setsebool -P httpd_can_network_relay on' \
    'connect to port 3401 (squid_port_t): if the application needs it: setsebool -P httpd_can_network_relay on' \
    'connect to port 10050 (zabbix_agent_port_t): no boolean is for this port alone' \
    'connect to port 8983 (unreserved_port_t): name the port by what listens there' \
    'listen on port 8099 (unreserved_port_t): find out what asked for it' \
    "$root/uploads/tool" '/usr/sbin/sendmail' 'setsebool -P httpd_can_sendmail on' \
    '/etc/shadow' '/home/dev/secret' 'setsebool -P httpd_read_user_content on' '/opt/other' "$root/log/quay.log" \
    '/run/mysqld/mysqld.sock' "$root/shared" 'setsebool -P httpd_use_nfs on' \
    "PHP's child perl could not make memory that can be written and executed: the just-in-time compilers of PHP ask for it" \
    'in the uppermost folder of a file system (nfs_t)' "$root/vendor/open" /var/spool/things; do
    case "$flat" in
    *"$line"*) echo "ok    denied: $line" ;;
    *) echo "FAIL  denied: $line"; failed=1 ;;
    esac
done
[ $failed = 0 ] || printf '%s\n' "$log"
check 'what a log is not for is refused rightly' 1 "$(printf '%s' "$log" | sed -n '/Refused, and rightly/,$p' | grep -c "^ *$root/log/quay.log  ")"
ausearch -i -m avc,user_avc,syscall,path,cwd --input-logs > /root/interpreted.log 2> /dev/null
log=$(ambrik why --from-log /root/interpreted.log 2>&1 | tr '\n' ' ' | tr -s ' ')
check 'interpreted: a port' 'connect to port 3306 (mysqld_port_t)' "$log"
check 'interpreted: a path' /home/dev/secret "$log"

exit $failed
