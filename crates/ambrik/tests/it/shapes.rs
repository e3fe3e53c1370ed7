//! Applications of the shapes that practitioners deploy, on a real server: from the archive to the sealed site with Ambrik alone.

use rstest::rstest;

use crate::real;

/// Where sites are: what is below a folder for temporary files is not taken for one's data.
const PLACE: &str = r"
set -eu
mount --make-rprivate /
mount -t tmpfs -o mode=755 tmpfs /srv
export TMPDIR=/srv
";

/// Places of their own for what some keep outside their roots, and the shape's archive.
const BEFORE: &str = r#"
for place in /etc/opt /var/opt; do mount -t tmpfs -o mode=755 tmpfs "$place"; done
chmod 755 /var/log
url=http://127.0.0.1:8081
name=harbour
top=$work/www/$name
app=$work/app
mkdir "$app"
"$shape"
nginx_site "$name" 8081 none
rm -rf "$top" "$work/sites/$name.toml"
sed -i "s|www/$name\";|www/$name/$below\";|" "/etc/nginx/sites-enabled/$name"
"#;

/// It is deployed; then what visitors get, what PHP can do to its code, and what the kernel lets each account do with each path,
/// beside what the site file wants.
const AFTER: &str = r#"
await "$url/"
as=
"$deploys"
get "$url/index.php" | say page
get "$url/save.php" | say save
[ -z "$visit" ] || get -o /dev/null -w '%{http_code}' "$url/$visit" | say installer
find "$top" $data | sort > "$work/paths"
for account in quay www-data nobody; do
  xargs -d "\n" $as "$AMBRIK" --sites "$work/sites" --state "$work/state" why --as "$account" --format json < "$work/paths" |
    jq -r '.answers[] | select(.wanted.right) | [.path, .wanted.right] | @tsv' > "$work/wanted"
  cut -f1 "$work/wanted" | setpriv --reuid="$account" --regid="$(id -g "$account")" --clear-groups bash -c '
    while read -r path; do
      right=; [ -r "$path" ] && right=r; [ -w "$path" ] && right=${right}w
      printf "%s\t%s\n" "$path" "${right:--}"
    done' > "$work/can"
  wc -l < "$work/can" | say "$account paths"
  diff "$work/wanted" "$work/can" | say "$account differs" || true
done
$as "$AMBRIK" --sites "$work/sites" --state "$work/state" audit "$name" --format json | jq -r '.sites[].findings[].check' | sort | say findings
echo "commands: $commands"
diff "$work/draft" "$work/sites/$name.toml" | grep -c '^[<>]' | say edited || true
"#;

/// It works, the installer is gone, the kernel lets each account do what the site file wants and nothing else, in at most five commands
/// and without an editor.
#[rstest]
#[case::read_me_beside_an_inner_folder("read_me_beside_an_inner_folder", 3)]
#[case::two_settings_from_samples("two_settings_from_samples", 3)]
#[case::flat_without_installer("flat_without_installer", 2)]
#[case::framework_with_two_folders("framework_with_two_folders", 3)]
#[case::four_places_of_the_hierarchy("four_places_of_the_hierarchy", 2)]
#[case::settings_printed_by_the_installer("settings_printed_by_the_installer", 3)]
#[case::an_installer_of_one_file("an_installer_of_one_file", 3)]
#[case::everything_777_during_the_install("everything_777_during_the_install", 3)]
#[case::a_renamed_installer("a_renamed_installer", 3)]
#[case::a_group_owned_tree("a_group_owned_tree", 3)]
#[case::data_beside_the_root("data_beside_the_root", 3)]
#[case::instructions_in_a_read_me("instructions_in_a_read_me", 3)]
#[case::shared_hosting_of_one_account("shared_hosting_with_php_of_the_same_account", 3)]
#[case::shared_hosting_with_a_common_group("shared_hosting_with_a_common_group", 3)]
#[case::all_of_it_owned_by_the_web_account("all_of_it_owned_by_the_web_account", 3)]
fn from_the_archive_to_the_sealed_site(#[case] shape: &str, #[case] commands: u8) {
    let which = format!("shape={shape}\n");
    let pieces = [PLACE, real::SETUP, include_str!("shapes.sh"), &which, BEFORE, real::SERVE, AFTER];
    let Some(out) = real::run(&pieces) else { return };
    let line = |name: &str| real::line(&out, name).trim().to_owned();
    let has_installer = out.contains("\ninstaller: ");
    assert!(line("page").starts_with("works with"), "{out}");
    assert_eq!(line("save"), "saved", "{out}");
    assert!(!has_installer || line("installer") == "404", "{out}");
    for account in ["quay", "www-data", "nobody"] {
        assert_eq!(line(&format!("{account} differs")), "", "{out}");
        assert!(line(&format!("{account} paths")).parse::<u32>().unwrap() > 7, "{out}");
    }
    // What a server's or PHP's own settings leave open is no part of this.
    let of_settings = ["control-file-writable", "session-cookie-open", "php-is-keeper"];
    assert!(line("findings").split_whitespace().all(|check| of_settings.contains(&check)), "{out}");
    assert_eq!((line("commands"), line("edited")), (commands.to_string(), "0".to_owned()), "{out}");
}

/// The next version over what an intruder changed, and back: `picture` is all that is below the root, with its content and when each file was written to.
const UPGRADE: &str = r#"
picture() { (cd "$top" && find . -printf '%p %y %m %U:%G %l\n' | sort && find . -type f -printf '%p %T@\n' | sort && find . -type f -exec sha1sum {} + | sort -k 2); }
await "$url/"
as=
"$deploys" > /dev/null
get "$url/save.php" | say save
echo '<?php /* evil */' >> "$top/$below/lib/start.php"
picture > "$work/before"
pages=$app/$(tar -tzf "$work/harbour.tar.gz" | grep '/index.php$' | grep -v install | sed "s|index.php||" | head -n 1)
echo '<?php echo "version two";' > "$pages/version.php"
rm "$pages/style.css"
packed $(ls "$app")
did upgrade unpack "$work/harbour.tar.gz" "$name" $options --tidy
get "$url/version.php" | say version
get "$url/index.php" | say page
grep -c evil "$top/$below/lib/start.php" | say evil || true
did undo undo
picture | diff "$work/before" - | say differs || true
"#;

#[rstest]
#[case("read_me_beside_an_inner_folder")]
#[case("framework_with_two_folders")]
#[case("data_beside_the_root")]
fn an_upgrade_over_changed_code_and_back(#[case] shape: &str) {
    let which = format!("shape={shape}\n");
    let pieces = [PLACE, real::SETUP, include_str!("shapes.sh"), &which, BEFORE, real::SERVE, UPGRADE];
    let Some(out) = real::run(&pieces) else { return };
    let line = |name: &str| real::line(&out, name).trim().to_owned();
    assert!(line("upgrade").contains("1 file that is replaced is not what was unpacked"), "{out}");
    assert!(line("upgrade").ends_with("exit 0"), "{out}");
    let after = ["version", "page", "evil", "differs"].map(line);
    assert_eq!(after.each_ref().map(String::as_str), ["version two", "works with made-up", "0", ""], "{out}");
    assert!(line("undo").ends_with("exit 0"), "{out}");
}
