# Applications of the shapes that practitioners meet, each made up and small, from the archive to the sealed site with Ambrik
# alone. What all have: a page that needs settings, one that writes wherever the application keeps something, and mostly an
# installer that looks first at what it may write. A shape's function makes below $app what its archive holds, packs it, and
# sets what is to be known of it:
below='' # the document root, below the root
settings=config.php # its settings, from the document root
data='' # what it writes outside the root
visit='' # its installer's page
options='' # of `unpack`
deploys=anew # how it is deployed

# A path in PHP code that lies in folder $1 of the document root.
in_php() { case $2 in /*) printf '"%s"' "$2" ;; *) printf '__DIR__ . "/%s%s"' "$1" "$2" ;; esac; }

# A page that works once there are settings, and one that writes these files.
pages() { # FOLDER WRITTEN...
  folder=$1
  shift
  mkdir -p "$folder/lib"
  file=$(in_php ../ "$settings")
  cat > "$folder/lib/start.php" << END
<?php
\$settings = is_readable($file) ? require $file : [];
if (empty(\$settings['key'])) { http_response_code(503); exit('not installed'); }
END
  printf '<?php\nrequire "lib/start.php";\necho "works with ", $settings["key"];\n' > "$folder/index.php"
  echo 'h1 { color: navy }' > "$folder/style.css"
  {
    printf '<?php\nrequire "lib/start.php";\n'
    for written; do printf 'if (!file_put_contents(%s, "kept")) { exit("cannot write"); }\n' "$(in_php '' "$written")"; done
    echo 'echo "saved";'
  } > "$folder/save.php"
}

# An installer that writes settings, and looks first whether it may write them and other paths.
installer() { # FOLDER PATH CHECKED...
  folder=$1 path=$2
  shift 2
  mkdir -p "$(dirname "$folder/$path")"
  case $path in */*) up=../ ;; *) up='' ;; esac
  {
    echo '<?php'
    for checked in "$settings" "$@"; do
      file=$(in_php "$up" "$checked")
      printf 'if (file_exists(%s) ? !is_writable(%s) : !is_writable(dirname(%s))) { exit("%s cannot be written"); }\n' "$file" "$file" "$file" "$checked"
    done
    echo 'if (empty($_POST["key"])) { exit("<form method=\"post\"><h1>Install</h1>The installer asks for a key <input name=\"key\"></form>"); }'
    echo '$text = "<?php return " . var_export(["key" => $_POST["key"]], true) . ";";'
    printf 'file_put_contents(%s, $text);\n' "$(in_php "$up" "$settings")"
    echo 'echo "Installed";'
  } > "$folder/$path"
  visit=$path
}

# Folders with something that keeps their place.
kept() { for folder; do mkdir -p "$folder" && touch "$folder/index.html"; done; }

# As archives come: everything is everybody's.
packed() { # NAMES BELOW $app...
  chmod -R 777 "$app"
  chown -R 4242:4242 "$app"
  tar -C "$app" -czf "$work/harbour.tar.gz" "$@"
}

# ---- the shapes

read_me_beside_an_inner_folder() {
  kept "$app/harbour-2.1/upload/uploads"
  pages "$app/harbour-2.1/upload" uploads/one.txt
  installer "$app/harbour-2.1/upload" install/index.php uploads
  echo 'Put what is in upload on your server.' > "$app/harbour-2.1/README.txt"
  echo 'Do as you like.' > "$app/harbour-2.1/LICENSE"
  packed harbour-2.1
  options='--inner harbour-2.1/upload'
}

two_settings_from_samples() {
  kept "$app/harbour/files"
  pages "$app/harbour" files/one.txt
  installer "$app/harbour" setup/index.php admin/config.php files
  mkdir -p "$app/harbour/admin"
  for folder in . admin; do echo "<?php return ['key' => ''];" > "$app/harbour/$folder/config-sample.php"; done
  printf '<?php\n$admin = require __DIR__ . "/config.php";\necho $admin["key"];\n' > "$app/harbour/admin/index.php"
  sed -i 's|^echo "Installed"|file_put_contents(__DIR__ . "/../admin/config.php", $text);\n&|' "$app/harbour/setup/index.php"
  packed harbour
}

flat_without_installer() {
  kept "$app/notes/content" "$app/notes/cache"
  pages "$app/notes" content/one.md cache/one.html
  echo '# Hello' > "$app/notes/content/index.md"
  echo "<?php return ['key' => 'as delivered'];" > "$app/notes/config.php"
  packed notes
}

framework_with_two_folders() {
  below=public settings=../.env.php
  kept "$app/fairway/storage" "$app/fairway/bootstrap/cache"
  pages "$app/fairway/public" ../storage/one.txt ../bootstrap/cache/one.php
  installer "$app/fairway/public" install.php ../storage ../bootstrap/cache
  echo "<?php return ['key' => ''];" > "$app/fairway/.env.php.example"
  packed fairway
}

four_places_of_the_hierarchy() {
  settings=/etc/opt/harbour/settings.php data='/var/opt/harbour /var/log/harbour'
  pages "$app/mail" /var/opt/harbour/one.txt /var/log/harbour/one.log
  packed mail
  # Its settings are written by hand, as root, and nobody else reads them yet.
  mkdir /etc/opt/harbour
  (umask 077 && echo "<?php return ['key' => 'made-up'];" > "$settings")
}

settings_printed_by_the_installer() {
  settings=settings.php deploys=by_hand
  kept "$app/ledger/data"
  pages "$app/ledger" data/one.txt
  installer "$app/ledger" install.php data
  sed -i 's|^file_put_contents.*|exit($text);|; /settings.php cannot/d' "$app/ledger/install.php"
  packed ledger
}

an_installer_of_one_file() {
  settings=config.inc.php
  kept "$app/files"
  pages "$app" files/one.txt
  installer "$app" install.php files
  packed .
}

everything_777_during_the_install() {
  kept "$app/market/images" "$app/market/plugins" "$app/market/themes"
  pages "$app/market" images/one.txt
  echo '<?php echo "a plug-in";' > "$app/market/plugins/hello.php"
  installer "$app/market" install/index.php images
  echo 'Before you install: chmod -R 777 . ; afterwards: chmod -R 755 . ; chmod 777 images' > "$app/market/README.txt"
  packed market
  deploys=over_777
}

a_renamed_installer() {
  kept "$app/forum/avatars"
  pages "$app/forum" avatars/one.txt
  installer "$app/forum" install/index.php avatars
  packed forum
  deploys=over_renamed
}

a_group_owned_tree() {
  kept "$app/club/pictures"
  pages "$app/club" pictures/one.txt
  installer "$app/club" install.php pictures
  packed club
  deploys=over_group
}

data_beside_the_root() {
  data=$work/www/harbour-data
  pages "$app/records" ../harbour-data/one.txt
  installer "$app/records" install.php ../harbour-data
  packed records
}

instructions_in_a_read_me() {
  settings=include/settings.php
  kept "$app/gallery/galleries" "$app/gallery/_data" "$app/gallery/include"
  pages "$app/gallery" galleries/one.txt _data/one.txt
  installer "$app/gallery" install.php galleries _data
  cat > "$app/gallery/INSTALL.txt" << 'END'
Installation
1. Make these writable for the web server:
   chmod 777 galleries _data
2. chmod 666 include/settings.php
3. Open install.php in your browser, then delete it and chmod 644 include/settings.php
END
  packed gallery
}

shared_hosting() {
  kept "$app/shop/uploads"
  pages "$app/shop" uploads/one.txt
  installer "$app/shop" install.php uploads
  packed shop
}
shared_hosting_with_php_of_the_same_account() { shared_hosting && deploys=as_tenant; }
shared_hosting_with_a_common_group() { shared_hosting && deploys=as_tenant_with_a_group; }

all_of_it_owned_by_the_web_account() {
  kept "$app/shop/uploads"
  pages "$app/shop" uploads/one.txt
  installer "$app/shop" install.php uploads
  packed shop
  deploys=over_web
}

# ---- how they are deployed

say() { printf '%s: ' "$1" && tr -s '\r\n ' ' ' | head -c 6000 && echo; }
# Runs a command of Ambrik on a terminal where every question is answered with yes, and counts it.
commands=0
did() { # STEP ARGUMENTS...
  step=$1
  shift
  commands=$((commands + 1))
  { yes | head -n 12 | $as script -qec "$AMBRIK --sites $work/sites --state $work/state $*" /dev/null && echo "exit 0" || echo "exit $?"; } | say "$step"
}
installs() {
  did open open "$name"
  get "$url/$visit" | say form
  get -d key=made-up "$url/$visit" > "$work/answer"
  say installed < "$work/answer"
}
unpacks() { did unpack unpack "$work/harbour.tar.gz" --into "$top" --save "$name" $options --ask && cp "$work/sites/$name.toml" "$work/draft"; }

anew() {
  unpacks
  [ -z "$visit" ] || installs
  did seal seal "$name"
}
by_hand() {
  unpacks
  installs
  cat "$work/answer" > "$top/$settings"
  did seal seal "$name"
}
# As practitioners leave it, with what the installer wrote.
old() {
  mkdir -p "$top"
  tar -C "$top" --strip-components=1 --no-same-owner -xzf "$work/harbour.tar.gz"
  echo "<?php return ['key' => 'made-up'];" > "$top/$settings"
}
surveyed() { did survey survey "$top" --save "$name" --ask && cp "$work/sites/$name.toml" "$work/draft"; }
mended() {
  surveyed
  did set set "$name"
  did seal seal "$name"
}
over_777() { old && chmod -R 777 "$top" && mended; }
over_renamed() { old && mv "$top/install" "$top/install.old" && visit=install.old/index.php && chown -R quay "$top" && mended; }
over_group() { old && chgrp -R quay "$top" && chmod -R g+rwXs,o=rX "$top" && mended; }
over_web() { old && chown -R quay:quay "$top" && mended; }
# Without root: by an account of its own, whose folders these are.
as_tenant() { without_root quay; }
as_tenant_with_a_group() {
  echo 'tenant:x:61202:61201::/nonexistent:/usr/sbin/nologin' >> /etc/passwd
  without_root tenant
}
without_root() {
  mkdir -p "$top" "$work/state"
  chown -R "$1:quay" "$top" "$work/sites" "$work/state"
  as="setpriv --reuid=$1 --regid=quay --clear-groups"
  anew
}
