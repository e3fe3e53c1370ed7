# What the scripts on the system that enforces SELinux have in common.
set -u
cp /share/ambrik /root/ambrik
export AMBRIK_STATE=/root/state
failed=0

ambrik() { /root/ambrik --color never "$@"; }
# Line breaks and indents do not count.
check() { # WHAT WANT GOT
    case "$(printf '%s' "$3" | tr '\n' ' ' | tr -s ' ')" in
    *"$2"*) echo "ok    $1" ;;
    *) echo "FAIL  $1: wanted \"$2\", got: $3"; failed=1 ;;
    esac
}
same() { # WHAT WANT GOT
    if [ "$2" = "$3" ]; then echo "ok    $1"; else echo "FAIL  $1: wanted \"$2\", got: $3"; failed=1; fi
}
type_of() { ls -Zd "$1" | sed 's/.*object_r:\([a-z_]*\).*/\1/' ; }
modules() { semodule -l | grep -c '^ambrik_' || true; }
serve() { # ROOT
    cat > /etc/nginx/sites-enabled/default <<NGINX
server {
  listen 80 default_server;
  root $1;
  location ~ \.php$ {
    include snippets/fastcgi-php.conf;
    fastcgi_pass unix:/run/php/php8.2-fpm.sock;
  }
}
NGINX
    /etc/init.d/nginx restart > /dev/null 2>&1
}
