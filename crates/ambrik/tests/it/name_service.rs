//! Accounts that stand in no file: a name service from the distribution's packages, in a mount namespace of its own.

use std::path::Path;
use std::process::{Command, Stdio};

use serde_json::Value;

use crate::host::is_root;

/// A host whose name service knows the users `gauger` and `shipper` besides those of the files, and the group `gauges`, and a
/// site that they get at. Prints what an audit says, and then what each of them can write, as the kernel answers.
const STEPS: &str = r#"
set -eu
mount --make-rprivate /
work=$(mktemp -d)
trap 'cd /; umount -l "$work"; rmdir "$work"' EXIT
mount -t tmpfs tmpfs "$work"
chmod 755 "$work"
mkdir "$work/extra" "$work/sites" "$work/site"
echo 'gauger:x:70001:70001:::/bin/sh
shipper:x:70002:70001:::/bin/sh' > "$work/extra/passwd"
echo 'gauger:x:70001:
gauges:x:71001:gauger' > "$work/extra/group"
cp /etc/passwd /etc/group "$work"
echo 'local:x:61007:61007::/:/bin/sh' >> "$work/passwd"
echo 'local:x:61007:
editors:x:61008:gauger' >> "$work/group"
printf 'passwd: files extrausers\ngroup: files extrausers\n' > "$work/nsswitch.conf"
for file in passwd group nsswitch.conf; do mount --bind "$work/$file" "/etc/$file"; done
mount --bind "$work/extra" /var/lib/extrausers
cd "$work/site"
for file in by-group by-local-group by-list by-default-list by-own-group; do echo '<?php' > "$file.php"; done
chmod 0644 *.php
chgrp gauges by-group.php
chgrp editors by-local-group.php
chgrp 70001 by-own-group.php
chmod g+w by-group.php by-local-group.php by-own-group.php
setfacl -m u:shipper:rw by-list.php
mkdir folder
setfacl -m d:u:shipper:rw folder
printf '[site]\nroot = "%s"\n[accounts]\nphp = "local"\nweb = "local"\n' "$work/site" > "$work/sites/site.toml"
"$AMBRIK" --sites "$work/sites" --state "$work/state" audit --format json ${1:-} || true
for who in gauger shipper; do
  for file in *.php; do
    if setpriv --reuid "$who" --regid "$(id -g "$who")" --init-groups sh -c "exec 3>> $file" 2> /dev/null; then
      echo "$who $file"
    fi
  done
done
"#;

#[test]
fn who_stands_in_no_file_is_judged() {
    if !is_root() {
        return;
    }
    if !Path::new("/var/lib/extrausers").exists() {
        test_support::missing("no extrausers name service");
        return;
    }
    let mut command = Command::new("unshare");
    command.args(["-m", "bash", "-c", STEPS]).env("AMBRIK", env!("CARGO_BIN_EXE_ambrik")).stdin(Stdio::null());
    let output = command.output().unwrap();
    let (out, err) = (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
    assert!(output.status.success(), "{err}");
    let (document, able) = out.split_once("\n}\n").unwrap();
    let document: Value = serde_json::from_str(&format!("{document}\n}}")).unwrap();
    let findings = document["sites"][0]["findings"].as_array().unwrap();
    let of = |check: &str| -> Vec<(&str, &str)> {
        let of = findings.iter().filter(|finding| finding["check"] == check);
        let each = of.flat_map(|finding| {
            let says = finding["says"].as_str().unwrap();
            finding["paths"].as_array().unwrap().iter().map(move |path| (path.as_str().unwrap(), says))
        });
        each.collect()
    };
    let writes = of("another-writes");
    for (path, who) in [("by-group.php", "gauger"), ("by-local-group.php", "gauger"), ("by-list.php", "shipper")] {
        assert!(writes.iter().any(|(found, says)| *found == path && says.contains(who)), "{path}: {writes:?}");
        assert!(able.lines().any(|line| line == format!("{who} {path}")), "{able}");
    }
    assert_eq!(of("lists-given-on").len(), 1, "{findings:?}");
    // Whose own group it is cannot be asked: that is said.
    assert!(able.contains("shipper by-own-group.php"), "{able}");
    assert!(document["not_asked"].as_str().unwrap().contains("extrausers"), "{document}");
    assert!(err.contains("accounts that only extrausers"), "{err}");
}
