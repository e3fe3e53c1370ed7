use super::*;
use crate::host;
use rstest::rstest;
use std::fs;
use std::os::unix::fs::symlink;
use test_support::is_root;

const PASSWD: &str = "root:x:0:0::/:/bin/sh\nwww-data:x:33:33::/:/bin/false\n";

/// A made-up host with an application in `/srv/www/quay`.
pub(super) struct Quay {
    dir: tempfile::TempDir,
}

impl Quay {
    pub(super) fn new(files: &[(&str, &str)]) -> Self {
        let quay = Self { dir: tempfile::tempdir().unwrap() };
        fs::create_dir_all(quay.dir.path().join("srv/www/quay")).unwrap();
        for (path, text) in files {
            quay.write(path, text);
        }
        quay
    }

    /// A file of the application, or of the host where the path begins with `/`; a folder where it ends with one.
    fn write(&self, path: &str, text: impl AsRef<[u8]>) {
        let whole = match path.strip_prefix('/') {
            Some(path) => self.dir.path().join(path),
            None => self.dir.path().join("srv/www/quay").join(path),
        };
        if path.ends_with('/') {
            return fs::create_dir_all(whole).unwrap();
        }
        fs::create_dir_all(whole.parent().unwrap()).unwrap();
        fs::write(whole, text).unwrap();
    }

    #[expect(clippy::disallowed_methods, reason = "a test's own file")]
    fn give_to_php(&self, path: &str) {
        std::os::unix::fs::chown(self.dir.path().join(path), Some(33), Some(33)).unwrap();
    }

    pub(super) fn survey(&self) -> Survey {
        let host = Host::at(self.dir.path()).unwrap();
        let accounts = Accounts::from_texts(PASSWD, "root:x:0:\nwww-data:x:33:\n");
        let services = host::look(&host, &accounts);
        let found =
            survey(&host, &accounts, &services, Path::new("/srv/www/quay"), &[], None, &Progress::default()).unwrap();
        let draft = found.draft();
        let site = crate::site::read(&draft, Path::new("quay.toml"), &accounts, &[]);
        assert!(site.is_ok(), "the draft is no site file: {}\n{draft}", site.unwrap_err());
        found
    }

    /// The proposed parts: `path use`, and `write` where it is not the use's own.
    fn parts(&self) -> Vec<String> {
        self.survey().parts.iter().map(shown).collect()
    }

    fn questions(&self) -> Vec<String> {
        self.survey().questions.iter().map(|question| shown(&question.part)).collect()
    }
}

fn shown(part: &DraftPart) -> String {
    let write = if part.write == part.used_as.default_write() { String::new() } else { format!(" {}", part.write) };
    let from = part.from.as_ref().map(|from| format!(" from {}", from.display())).unwrap_or_default();
    let create = if part.create { " create" } else { "" };
    format!("{} {}{write}{from}{create}", part.path.display(), part.used_as)
}

/// A pool that runs as www-data.
const POOL: (&str, &str) = ("/etc/php-fpm.conf", "[quay]\nuser = www-data\nlisten = 9000\n");

const INDEX: (&str, &str) = ("index.php", "<?php require 'lib/quay.php'; show();");

fn with_index(files: &[(&'static str, &'static str)]) -> Quay {
    Quay::new(&[&[INDEX], files].concat())
}

#[rstest]
#[case::nothing(&[], &[])]
#[case::a_list_of_checks(
    &[("install/index.php", "<?php $root = dirname(__DIR__); foreach (['tides', 'var/log', 'moorings'] as $f) { if (!is_writable(\"$root/$f\")) die($f); }"),
      ("tides/a.csv", "1"), ("var/log/x.txt", ""), ("moorings/", "")],
    &["moorings store", "tides store", "var/log log"]
)]
#[case::a_list_with_keys_and_a_wrapper(
    &[("lib/check.php", "<?php function needs($path) { return is_writable(ROOT . '/' . $path); }\n\
        $list = ['charts' => 'Charts', 'tides' => 'Tides', 'ropes' => 'Ropes']; foreach ($list as $p => $t) needs($p);\ndefine('ROOT', dirname(__DIR__));"),
      ("tides/a.csv", ""), ("charts/a.csv", ""), ("ropes/a.csv", "")],
    &["charts store", "ropes store", "tides store"]
)]
#[case::constants_of_classes_and_properties(
    &[("lib/Board.php", "<?php class Board { const KEPT = 'kept'; private $base = __DIR__ . '/..'; private $pins;\n\
        function __construct() { $this->pins = $this->base . '/' . self::KEPT; }\n\
        function pin($n, $t) { file_put_contents($this->pins . '/' . $n . '.txt', $t); } }"), ("kept/", "")],
    &["kept store"]
)]
#[case::what_a_constructor_is_given(
    &[("lib/Log.php", "<?php final class Log { public function __construct(private string $to) {} function add($l) { error_log($l, 3, $this->to . '/harbour.log'); } }"),
      ("start.php", "<?php new Log(__DIR__ . '/var/log');"), ("var/log/", "")],
    &["var/log log"]
)]
#[case::settings_in_an_array_of_a_sample(
    &[("settings.sample.php", "<?php return ['password' => '', 'pictures' => './pictures/', 'tmp_dir' => './tmp/'];"),
      ("lib/quay.php", "<?php $s = require 'settings.php'; move_uploaded_file($f, $s['pictures'] . $name); mkdir($s['tmp_dir'] . '/x');"),
      ("pictures/a.svg", "")],
    &["settings.php secret from settings.sample.php", "pictures store", "tmp scratch create"]
)]
#[case::a_variable_of_the_whole_program(
    &[("config.php", "<?php\n$berth_files = 'berthfiles/';"),
      ("lib/quay.php", "<?php function keep($n) { global $berth_files; return fopen($berth_files . $n, 'wb'); }"), ("berthfiles/", "")],
    &["berthfiles store"]
)]
#[case::reading_is_not_writing(
    &[("lib/quay.php", "<?php $f = fopen(__DIR__ . '/../charts/a.csv', 'r'); file_get_contents('charts/b.csv'); is_readable('charts');"), ("charts/a.csv", "")],
    &[]
)]
#[case::tests_and_tools_weigh_nothing(
    &[("tests/t.php", "<?php file_put_contents(__DIR__ . '/../charts/x', ''); mkdir(__DIR__ . '/../charts/y');"),
      ("bin/make.php", "<?php file_put_contents(__DIR__ . '/../charts/x', '');"),
      ("build.php", "#!/usr/bin/php\n<?php file_put_contents(__DIR__ . '/charts/x', '');"), ("charts/a.csv", "")],
    &[]
)]
#[case::placeholders_that_say_it_themselves(
    &[("deep/anything/.gitignore", "*\n!.gitignore\n"), ("cache/.gitkeep", ""), ("plugins/.gitkeep", ""), ("logs/index.html", "<html></html>")],
    &["deep/anything store"]
)]
#[case::placeholders_and_the_ignore_file(
    &[("cache/.gitkeep", ""), (".gitignore", "/cache/*\n!/cache/.gitkeep\n/config.php\n/node_modules\n"), ("lib/quay.php", "<?php require __DIR__ . '/../config.php';")],
    &["config.php secret", "cache scratch"]
)]
#[case::words(
    &[("INSTALL.md", "# Install\n\nMake sure that these folders are writable by the web server:\n\n- `charts/`\n- uploads\n\nThen open the page. The lib folder holds code.\n"),
      ("charts/a.svg", ""), ("uploads/a.svg", ""), ("lib/quay.php", "<?php function show() {}")],
    &["charts store", "uploads store"]
)]
#[case::a_script(
    &[("deploy.sh", "#!/bin/sh\nchown -R www-data:www-data \"$APP_DIR/charts\" $APP_DIR/tides\nchmod 644 index.php\n"), ("charts/a.svg", ""), ("tides/a.csv", "")],
    &["charts store", "tides store"]
)]
#[case::uploads_that_code_names(
    &[("lib/quay.php", "<?php define('KEPT', __DIR__ . '/../kept'); mkdir(KEPT . '/uploads'); function take($n) { $dir = KEPT . '/uploads'; return move_uploaded_file($t, where($dir) . $n); }"), ("kept/a.css", "")],
    &["kept/uploads store create"]
)]
#[case::never_the_root_never_code(
    &[("INSTALL", "chmod -R 777 . \nchmod 777 lib\nchmod 777 lib/kept\n"), ("lib/quay.php", "<?php function show() { echo 1; }"), ("lib/kept/a.csv", "")],
    &["lib/kept store"]
)]
#[case::what_only_holds_caches_is_one(
    &[("INSTALL", "chmod 777 storage/views storage/sessions storage/app\n"), ("storage/views/.gitkeep", ""), ("storage/sessions/.gitkeep", ""), ("storage/app/x.svg", "")],
    &["storage store", "storage/sessions scratch"]
)]
#[case::several_sites_in_one_code_base(
    &[("lib/quay.php", "<?php function site($name) { return require __DIR__ . \"/../sites/$name/settings.php\"; }"),
      ("sites/default/settings.php", "<?php $db = ['password' => 'made-up'];"), ("sites/mole/settings.php", "<?php $db = ['password' => 'made-up'];"),
      ("INSTALL", "chmod 777 sites/default/files\n"), ("sites/default/files/a.svg", ""), ("sites/mole/files/a.svg", "")],
    &["sites/*/settings.php secret", "sites/*/files store"]
)]
#[case::a_helper_charges_none_of_its_callers_but_those_that_hand_it_a_path(
    &[("lib/check.php", "<?php function needs($path) { return is_writable($path); } needs(unknown() . '/charts'); needs($_GET['x']);"),
      ("charts/a.csv", ""), ("tides/a.csv", "")],
    &[]
)]
#[case::one_of_several_roots(
    &[("public/start.php", "<?php if (!defined('HOME')) define('HOME', __DIR__); require HOME . '/lib/quay.php';"),
      ("cron.php", "<?php define('HOME', __DIR__); require HOME . '/lib/quay.php'; require HOME . '/lib/tides.php';"),
      ("lib/tides.php", "<?php"), ("lib/quay.php", "<?php mkdir(HOME . '/kept/data'); file_put_contents(HOME . '/kept/data/a', 'x');")],
    &["kept store create"]
)]
#[case::nothing_below_a_file(
    &[("lib/quay.php", "<?php mkdir(__FILE__ . '/data'); file_put_contents(__FILE__ . '/data/x', '');")],
    &[]
)]
#[case::where_plug_ins_are_loaded_from(
    &[("INSTALL", "chmod 777 plugins uploads\n"), ("plugins/", ""), ("uploads/", "")],
    &["uploads store"]
)]
#[case::what_closes_a_folder_is_no_reason(
    &[("lib/quay.php", "<?php foreach (['charts', 'images'] as $d) file_put_contents(__DIR__ . \"/../$d/.htaccess\", 'Deny from all');"), ("charts/a.css", ""), ("images/a.svg", "")],
    &[]
)]
#[case::a_secret_in_a_written_folder_is_its_own_part(
    &[("INSTALL", "chmod 777 data\n"), ("data/config.sample.ini", "password = \"\"\n"), ("data/a.csv", "")],
    &["data/config.ini secret from data/config.sample.ini", "data store"]
)]
fn parts_are_proposed(#[case] files: &[(&'static str, &'static str)], #[case] want: &[&str]) {
    assert_eq!(with_index(files).parts(), want);
}

#[rstest]
#[case("config.php.dist", "config.php")]
#[case("config-sample.php", "config.php")]
#[case(".env.example", ".env")]
#[case("config/example.settings.php", "config/settings.php")]
#[case("config-templates/harbour.php", "config/harbour.php")]
fn samples_are_found(#[case] sample: &'static str, #[case] real: &str) {
    let text =
        if sample.starts_with('.') { "DB_PASSWORD=\n" } else { "<?php\n$config['db_password'] = 'change-me';\n" };
    let parts = with_index(&[(sample, text)]).parts();
    assert_eq!(parts, [format!("{real} secret from {sample}")]);
}

#[rstest]
#[case::edited_in_place("config/database.php", "<?php\ndefined('A') or exit;\n$db['password'] = '';\n", true)]
#[case::from_the_environment("config/database.php", "<?php\nreturn ['password' => getenv('DB_PASSWORD')];\n", false)]
#[case::a_form("lib/settings.php", "<?php\nfunction form() { return ['password' => 'text']; }\n", false)]
#[case::a_translation("lang/config.php", "<?php\n$t['password'] = 'Kennwort';\n", false)]
#[case::a_library("vendor/x/config.php", "<?php\n$t['password'] = 'x';\n", false)]
#[case::tests("tests/config.php", "<?php\n$t['password'] = 'x';\n", false)]
fn settings_in_place(#[case] path: &'static str, #[case] text: &'static str, #[case] secret: bool) {
    let parts = with_index(&[(path, text)]).parts();
    assert_eq!(parts, if secret { vec![format!("{path} secret")] } else { vec![] });
}

const WIZARD: &str = "<?php if (file_exists('../config.php')) exit; echo '<input type=\"password\">';\n\
                      $sql = 'CREATE TABLE berths (n int)'; file_put_contents('../config.php', $text); is_writable('../config.php');";

#[rstest]
#[case::a_folder(&[("install/index.php", WIZARD)], &["config.php secret install", "install setup"], &[])]
#[case::a_file(&[("setup.php", "<?php if (is_file('config.php')) exit; echo '<input type=\"password\">'; $q = 'create table x (y int)';")], &["setup.php setup"], &[])]
#[case::a_name_is_not_enough(&[("setup/index.php", "<?php echo 'boats'; ")], &[], &["setup setup"])]
#[case::the_text_asks(&[("setup/index.php", "<?php echo 'boats'; "), ("README", "Delete the folder setup afterwards.\n")], &["setup setup"], &[])]
#[case::classes_are_none(&[("lib/Install.php", "<?php class Install { function go() { return 'create table x'; } }"), ("src/Setup/Menu.php", "<?php class Menu {}")], &[], &[])]
#[case::a_librarys_own_is_none(&[("vendor/x/install/index.php", WIZARD)], &[], &[])]
#[case::still_needed(&[("install/index.php", WIZARD), ("install/tables.php", "<?php $t = 1;"), ("lib/quay.php", "<?php include __DIR__ . '/../install/tables.php';")], &["config.php secret install"], &["install setup"])]
#[case::a_switch(&[("install", ""), ("docs/README.md", "2. Delete the file `install`.\n")], &["install setup"], &[])]
fn installers(#[case] files: &[(&'static str, &'static str)], #[case] parts: &[&str], #[case] questions: &[&str]) {
    let quay = with_index(files);
    assert_eq!(
        (quay.parts(), quay.questions()),
        (parts.iter().map(|p| (*p).into()).collect(), questions.iter().map(|q| (*q).into()).collect())
    );
}

#[rstest]
#[case::flat(&[INDEX], "")]
#[case::public(&[("public/index.php", "<?php require __DIR__ . '/../src/quay.php';"), ("src/quay.php", "<?php")], "public")]
#[case::public_beside_a_redirect(&[("index.php", "<?php header('Location: web/');"), ("web/index.php", "<?php require '../lib/quay.php';")], "web")]
#[case::rules_send_there(&[(".htaccess", "RewriteEngine on\nRewriteRule ^(.*)$ htdocs/$1 [L]\n"), ("htdocs/index.php", "<?php require '../a.php';")], "htdocs")]
#[case::another_name(&[("share/index.php", "<?php require '../lib/a.php';"), ("docs/index.html", "<h1>Manual of the harbour</h1>")], "share")]
#[case::an_installer_is_none(&[INDEX, ("install/index.php", "<?php require '../lib/a.php';")], "")]
#[case::configured(&[("site/index.php", "<?php echo 1;"), ("admin/index.php", "<?php echo 1;"), ("docs/apache.conf", "DocumentRoot /srv/quay/site\n")], "site")]
#[case::a_folder_of_pages(&[INDEX, ("web/index.html", "<p>more</p>")], "")]
fn the_document_root(#[case] files: &[(&str, &str)], #[case] want: &str) {
    assert_eq!(Quay::new(files).survey().served, Path::new(want));
}

#[test]
fn what_a_server_serves_wins_and_its_accounts_are_drafted() {
    let quay = Quay::new(&[
        INDEX,
        ("open/index.html", ""),
        (
            "/etc/nginx/nginx.conf",
            "user www-data; http { server { root /srv/www/quay/open; location ~ \\.php$ { fastcgi_pass 127.0.0.1:9000; } } }",
        ),
        POOL,
    ]);
    let found = quay.survey();
    assert_eq!(found.served, Path::new("open"));
    assert_eq!(found.php.as_ref().unwrap().account.user, "www-data");
    let draft = found.draft();
    assert!(draft.contains("php    = \"www-data\"") && draft.contains("/etc/php-fpm.conf:2"), "{draft}");
}

#[test]
fn settings_outside_are_followed_and_so_is_what_they_name() {
    let quay = Quay::new(&[
        (
            "index.php",
            "<?php $s = require '/etc/quay/settings.php'; mkdir($s['rows']); file_put_contents($s['rows'] . '/a.txt', 'x'); error_log('x', 3, '/var/log/other/x.log');",
        ),
        ("/etc/quay/settings.php", "<?php return ['key' => 'made-up', 'rows' => '/var/lib/quay/rows'];"),
        POOL,
    ]);
    assert_eq!(quay.parts(), ["/etc/quay/settings.php secret", "/var/lib/quay/rows store create"]);
    assert_eq!(quay.questions(), ["/var/log/other log create"]);
}

/// Whoever can write to the tree can name anything on the host there.
#[test]
fn what_would_give_php_more_outside_is_asked() {
    if !is_root() {
        return;
    }
    let code = "<?php require '/etc/harbour/keys.php'; $s = require 'settings.php'; file_put_contents($s['rows'] . '/a', 'x');";
    let quay = Quay::new(&[
        ("index.php", code),
        ("settings.php", "<?php return ['key' => 'made-up', 'rows' => '/var/spool/harbour/jobs'];"),
        ("/etc/harbour/keys.php", "<?php return ['key' => 'made-up'];"),
        ("/var/spool/harbour/jobs/", ""),
        ("/etc/shadow", "key = x"),
        POOL,
    ]);
    symlink("/etc/shadow", quay.dir.path().join("srv/www/quay/local.ini")).unwrap();
    for path in ["etc/harbour", "etc/shadow"] {
        let mode = std::os::unix::fs::PermissionsExt::from_mode(0o700);
        #[expect(clippy::disallowed_methods, reason = "a test's own file")]
        fs::set_permissions(quay.dir.path().join(path), mode).unwrap();
    }
    assert_eq!(quay.parts(), ["settings.php secret"]);
    assert_eq!(
        quay.questions(),
        ["/etc/harbour/keys.php secret", "/etc/shadow secret", "/var/spool/harbour/jobs store"]
    );
}

#[test]
fn a_link_to_a_data_folder_elsewhere_is_followed_when_it_is_phps() {
    let quay = with_index(&[("/var/lib/quay/uploads/a.svg", "")]);
    symlink("/var/lib/quay/uploads", quay.dir.path().join("srv/www/quay/uploads")).unwrap();
    assert_eq!(quay.questions(), ["/var/lib/quay/uploads store"]);
    if !is_root() {
        return;
    }
    quay.write(POOL.0, POOL.1);
    quay.give_to_php("var/lib/quay/uploads");
    assert_eq!(quay.parts(), ["/var/lib/quay/uploads store"]);
}

#[test]
fn a_folder_that_php_owns_alone_is_asked_for() {
    if !is_root() {
        return;
    }
    let quay = with_index(&[("tides/2026/a.csv", ""), POOL]);
    for path in ["tides", "tides/2026"] {
        quay.give_to_php(&format!("srv/www/quay/{path}"));
    }
    assert_eq!((quay.parts(), quay.questions()), (vec![], vec!["tides store".to_owned()]));
}

#[test]
fn what_came_after_the_code_was_there_tells() {
    let quay = with_index(&[("lib/quay.php", "<?php function show() {}"), ("uploads/a.svg", ""), ("assets/a.svg", "")]);
    assert_eq!((quay.parts(), quay.questions()), (vec![], vec![]));
    quay.write("README", "The folder uploads is for pictures: it must be writable.\n");
    assert_eq!(quay.survey().parts[0].confidence, Confidence::Medium);
    let later = std::time::SystemTime::now() + std::time::Duration::from_secs(3 * 24 * 60 * 60);
    let file = fs::File::options().write(true).open(quay.dir.path().join("srv/www/quay/uploads/a.svg")).unwrap();
    file.set_modified(later).unwrap();
    let because = &quay.survey().parts[0].because;
    assert!(because.iter().any(|reason| reason.says == "files that came after the code was there (1)"), "{because:?}");
}

#[test]
fn a_wild_name_is_drafted_as_itself() {
    let quay = with_index(&[
        ("INSTALL", "chmod 777 data/a*\n"),
        ("x.php", "<?php is_writable(__DIR__ . '/logs'); file_put_contents(__DIR__ . '/logs/x', ''); "),
    ]);
    quay.write("lo[g]s/cache/.gitignore", "*\n");
    assert!(quay.survey().draft().contains("lo[[]g]s/cache"));
}

/// Whatever stands in a tree, a survey ends, and finds what is beside it.
#[rstest]
#[case::nested("deep.php", format!("<?php is_writable({}1{});", "(".repeat(60_000), ")".repeat(60_000)).into_bytes())]
#[case::a_long_chain("chain.php", format!("<?php file_put_contents({}'x', 1);", "__DIR__ . ".repeat(20_000)).into_bytes())]
#[case::round_and_round("loop.php", b"<?php $a = $b . '/x'; $b = $a . '/y'; mkdir($a); define('A', B); define('B', A . A . A); touch(A); function f($x) { return f($x . f($x)); } touch(f(f(1)));".to_vec())]
#[case::broken("broken.php", b"<?php class { function ( { is_writable('a' . ; file_put_contents(".to_vec())]
#[case::binary("picture.php", [b"<?php is_writable('x');".as_slice(), &[0, 1, 2, 255, 254]].concat())]
#[case::latin("latin.php", b"<?php // H\xe4fen\nis_writable('\xe4\xf6');".to_vec())]
#[case::utf16("utf16.php", "<?php is_writable('x');".encode_utf16().flat_map(u16::to_le_bytes).collect())]
#[case::minified("app.min.php", format!("<?php {}", "$a=array(1,2,3);is_writable($a[0]);".repeat(20_000)).into_bytes())]
#[case::too_long("big.php", format!("<?php // {}", "x".repeat(3 << 20)).into_bytes())]
#[case::quoted_wildly("odd.php", b"<?php is_writable(\"\\x41\\u{1F600}{$a->b['c']}${d}\"); file_put_contents(<<<'E'\nx\nE, 1);".to_vec())]
fn strange_files_do_not_stop_it(#[case] name: &str, #[case] bytes: Vec<u8>) {
    let quay = with_index(&[
        ("z.php", "<?php is_writable(__DIR__ . '/tides'); file_put_contents(__DIR__ . '/tides/a', 1);"),
        ("tides/b", ""),
    ]);
    quay.write(name, bytes);
    assert_eq!(quay.parts(), ["tides store"]);
}

/// That code makes a folder is asked about; that it makes one and writes into it is enough.
#[test]
fn a_folder_that_is_only_made_is_asked_for() {
    let makes = "mkdir(__DIR__ . '/packed'); mkdir(__DIR__ . '/drawn'); imagepng($i, __DIR__ . '/drawn/a.png');";
    let quay = Quay::new(&[("index.php", &format!("<?php {makes}"))]);
    assert_eq!(
        (quay.parts(), quay.questions()),
        (vec!["drawn store create".to_owned()], vec!["packed store create".to_owned()])
    );
}

/// What is said of a link is said of where it leads: the link itself is given to nobody.
#[test]
fn a_link_is_no_part() {
    if !is_root() {
        return;
    }
    let says = "Make the folder `cache` writable for the web server: chown www-data cache";
    let quay = Quay::new(&[
        ("index.php", "<?php mkdir(__DIR__ . '/cache/x');"),
        ("README.md", says),
        ("/var/cache/quay/a/b", ""),
        POOL,
    ]);
    symlink("/var/cache/quay/a", quay.dir.path().join("srv/www/quay/cache")).unwrap();
    quay.give_to_php("var/cache/quay/a");
    let found = quay.survey();
    let asked = found.questions.iter().map(|question| &question.part);
    let paths: Vec<&Path> = found.parts.iter().chain(asked).map(|part| &*part.path).collect();
    assert_eq!(paths, [Path::new("/var/cache/quay/a")]);
}

#[test]
fn links_and_special_files_are_not_read() {
    let quay = with_index(&[("/etc/shadow", "password = \"x\"\n"), ("config/a.php", "<?php")]);
    let at = |path: &str| quay.dir.path().join("srv/www/quay").join(path);
    symlink("/etc/shadow", at("config/settings.ini")).unwrap();
    symlink("..", at("config/up")).unwrap();
    rustix::fs::mknodat(rustix::fs::CWD, at("config.ini"), rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0)
        .unwrap();
    assert_eq!(quay.parts(), [] as [&str; 0]);
}

#[test]
fn a_site_without_php_has_no_parts() {
    assert_eq!(Quay::new(&[("index.html", "<h1>Harbour</h1>"), ("style.css", "")]).parts(), [] as [&str; 0]);
}

/// The folder around a release layout, and the one that an archive laid down, are not the application.
#[test]
fn the_right_root_is_proposed() {
    let quay =
        Quay::new(&[("releases/2/index.php", "<?php echo 1;"), ("releases/1/index.php", "<?php"), ("shared/", "")]);
    symlink("releases/2", quay.dir.path().join("srv/www/quay/current")).unwrap();
    let found = quay.survey();
    assert_eq!(found.root, Path::new("/srv/www/quay/current"));
    assert!(found.draft().contains("# the release that is served"), "{}", found.draft());
    let quay =
        Quay::new(&[("quay-1.0/quay/index.php", "<?php echo 1;"), ("quay-1.0/README.txt", ""), ("README.md", "")]);
    assert_eq!(quay.survey().root, Path::new("/srv/www/quay/quay-1.0/quay"));
    let quay = Quay::new(&[("public/index.php", "<?php echo 1;")]);
    assert_eq!(quay.survey().root, Path::new("/srv/www/quay"));
}

/// What the package that the tree came in gives to PHP's account.
#[test]
fn packages_tell_whose_folders_are() {
    let quay = Quay::new(&[
        INDEX,
        POOL,
        ("/var/lib/dpkg/info/quay.list", "/.\n/srv\n/srv/www/quay\n/srv/www/quay/index.php\n"),
        (
            "/var/lib/dpkg/info/quay.postinst",
            "#!/bin/sh\nfor d in tides berths; do chown www-data: /var/lib/quay/$d; done\n",
        ),
        ("/var/lib/dpkg/info/other.list", "/srv/www/other\n"),
        ("/var/lib/dpkg/info/other.postinst", "chown www-data /var/lib/quay/others\n"),
        ("/var/lib/quay/tides/", ""),
        ("/var/lib/quay/berths/", ""),
        ("/var/lib/quay/others/", ""),
    ]);
    assert_eq!(quay.parts(), ["/var/lib/quay/berths store", "/var/lib/quay/tides store"]);
}

/// Where PHP may put another folder in the place of one that it writes to, the folder around is what it writes to.
#[test]
fn folders_in_a_folder_of_phps_are_one_part() {
    if !is_root() {
        return;
    }
    let code = "<?php $base = '/var/lib/quay/tides'; define('A', $base . '/cache'); define('B', $base . '/rows');";
    let quay =
        Quay::new(&[("index.php", code), ("/var/lib/quay/tides/cache/", ""), ("/var/lib/quay/tides/rows/", ""), POOL]);
    for path in ["tides", "tides/cache", "tides/rows"] {
        quay.give_to_php(&format!("var/lib/quay/{path}"));
    }
    assert_eq!(quay.parts(), ["/var/lib/quay/tides store"]);
}
