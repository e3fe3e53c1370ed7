#!/bin/sh
# What run.sh runs on the system that enforces SELinux: the demo's bookings, served by a real web server.
. /share/lib.sh
root=/srv/www/berths
writes() { curl -s "http://127.0.0.1/write.php?to=$1"; }

ambrik demo --build-only /root/demo > /dev/null 2>&1
mkdir -p /srv/www /etc/ambrik/sites
cp -r /root/demo/srv/www/berths $root
rm -rf $root/install $root/info.php $root/berths-1.4.zip
cat > $root/write.php <<'PHP'
<?php
echo @file_put_contents(__DIR__ . '/' . $_GET['to'], "x\n", FILE_APPEND) ? 'written' : 'refused';
PHP
chown -R root:root $root
serve $root
cat > /etc/ambrik/sites/berths.toml <<SITE
[site]
root   = "$root"
served = "."
[accounts]
php = "www-data"
web = "www-data"
[[part]]
path = "uploads"
use  = "store"
[[part]]
path = "var/cache"
use  = "scratch"
[[part]]
path = "var/log"
use  = "log"
[[part]]
path = "config/settings.php"
use  = "secret"
[selinux]
switches = ["httpd_can_network_connect_db"]
SITE

echo '== as practitioners leave it: everything is content, and PHP owns what it writes'
chcon -R -t httpd_sys_content_t $root
chown -R www-data:www-data $root/uploads $root/var/cache $root/var/log
dmesg -C
check 'a write that the modes allow and the label does not' refused "$(writes uploads/one.txt)"
check 'why names the label' 'its SELinux label httpd_sys_content_t does not let httpd_t' "$(ambrik why $root/uploads --as php)"
check 'the audit names it' label-blocks "$(ambrik audit berths --fail-on never)"
dmesg > /root/denials.log
log=$(ambrik why --from-log /root/denials.log)
check 'the denial in the log is answered' "$root/uploads" "$log"
check 'as wanted by the site file' 'Still refused, and the site file wants it' "$log"
check 'with the right label' httpd_sys_rw_content_t "$log"
ls -ZR $root > /root/before

echo '== set'
check 'set ends well' 'its labels last' "$(ambrik set berths --yes 2> /root/err || cat /root/err)"
check 'PHP writes to its store' written "$(writes uploads/two.txt)"
check 'and to its cache' written "$(writes var/cache/two.txt)"
check 'and adds to its log' written "$(writes var/log/berths.log)"
check 'the module is there' 1 "$(modules)"
check 'the switch that the site file names is on' '--> on' "$(getsebool httpd_can_network_connect_db)"
check 'nothing is left to do' 'nothing to do' "$(ambrik set berths --preview)"
restorecon -R $root
check 'after a full relabelling it still writes' written "$(writes uploads/three.txt)"
check 'and still nothing is left to do' 'nothing to do' "$(ambrik set berths --preview)"

echo '== outside the parts'
check 'modes and label refuse' refused "$(writes lib/evil.php)"
chmod 777 $root/lib
check 'the label alone refuses' refused "$(writes lib/evil.php)"
chmod 755 $root/lib
chcon -t httpd_sys_rw_content_t $root/lib
check 'the modes alone refuse' refused "$(writes lib/evil.php)"
check 'and the audit says that the label is too wide' label-too-wide "$(ambrik audit berths --fail-on never)"
restorecon $root/lib

echo '== permissive'
chcon -R -t httpd_sys_content_t $root/uploads
# A permissive kernel logs a denial once.
dmesg -C
setenforce 0
check 'PHP writes whatever the label' written "$(writes uploads/four.txt)"
dmesg > /root/logged.log
audit=$(ambrik audit berths --fail-on never)
check 'the audit says that nothing protects' label-protection-off "$audit"
check 'and what would be refused' label-blocks "$audit"
check 'why says that it is only logged' 'only logged: it is permissive' "$(ambrik why $root/uploads --as php)"
check 'the denial that was only logged is answered' 'Still refused, and the site file wants it' "$(ambrik why --from-log /root/logged.log)"
check 'set puts the label right all the same' '' "$(ambrik set berths --yes 2>&1)"
check 'as it should be' httpd_sys_rw_content_t "$(type_of $root/uploads)"
setenforce 1

echo '== back'
ambrik undo 2 --yes > /dev/null
ambrik undo 1 --yes > /dev/null
rm -f $root/uploads/t*.txt $root/uploads/four.txt $root/var/cache/two.txt
ls -ZR $root > /root/after
check 'labels are as before' '' "$(diff /root/before /root/after | head -5)"
diff /root/before /root/after > /dev/null || failed=1
check 'and the policy store' 0 "$(modules)"
check 'and the switch' '--> off' "$(getsebool httpd_can_network_connect_db)"

echo '== with the switch off that lets PHP write at all'
setsebool httpd_builtin_scripting off
chown -R www-data:www-data $root/uploads
chcon -R -t httpd_sys_rw_content_t $root/uploads
check 'the type that is writable otherwise blocks' label-blocks "$(ambrik audit berths --fail-on never)"
check 'and is refused' refused "$(writes uploads/five.txt)"
check 'another type is taken' httpd_var_lib_t "$(ambrik set berths --yes 2> /dev/null)"
check 'and PHP writes' written "$(writes uploads/five.txt)"
setsebool httpd_builtin_scripting on

echo '== killed at any moment'
ambrik undo --yes > /dev/null 2>&1
rm -f $root/uploads/t*.txt $root/uploads/f*.txt
mkdir -p $root/install
echo '<?php' > $root/install/step.php
ln $root/install/step.php $root/uploads/second-name.php
ln -s ../config $root/install/config
mkfifo $root/install/fifo
chown -R www-data:www-data $root
chmod -R u+rwX,go+rwX $root
chcon -R -t httpd_sys_content_t $root
chcon -t httpd_sys_rw_content_t $root/install/step.php
cat >> /etc/ambrik/sites/berths.toml <<'SITE'
[[part]]
path = "install"
use  = "setup"
SITE
state() {
    find $root -exec stat -c '%n %F %h %U:%G %a %s %C' {} + | sort
    echo "modules $(modules), $(getsebool httpd_can_network_connect_db)"
}
state > /root/before
kills=0
n=0
time=5000
while [ "$kills" -lt "${1:-8}" ]; do
    export AMBRIK_STATE=/root/state-$n
    for words in 'open berths' 'seal berths --unfinished' 'set berths' 'undo --since 1'; do
        n=$((n + 1))
        begun=$(date +%s%N)
        ms=$((n * 37 % 100 * time / 100 + 1))
        # By turns with the commands that it runs, and alone.
        [ $((n % 2)) = 0 ] && alone='' || alone=--foreground
        timeout $alone -s KILL "$((ms / 1000)).$(printf %03d $((ms % 1000)))" /root/ambrik $words --yes > /dev/null 2>&1
        case $? in
        137) kills=$((kills + 1)) ;;
        *) time=$((($(date +%s%N) - begun) / 1000000)) ;;
        esac
    done
    for again in 1 2 3; do
        ambrik undo --since 1 --yes > /root/err 2>&1
        case $? in 0 | 2) break ;; esac
    done
    state > /root/after
    if ! diff /root/before /root/after > /root/differences; then
        echo "FAIL  everything is back after $kills kills: $(head -20 /root/differences /root/err)"
        failed=1
        break
    fi
done
echo "ok    everything was compared after $kills kills: modes, owners, names, labels, policy store, switches"

exit $failed
