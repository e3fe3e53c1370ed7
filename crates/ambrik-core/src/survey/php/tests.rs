use super::*;
use rstest::rstest;

use crate::survey::deployed::Deployed;
use crate::tree::Host;

/// The paths that the code of some files touches with a sink, as `path` or `path/…` where its end is not known.
fn touched(files: &[(&str, &str)], sink: Sink) -> Vec<String> {
    let dir = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let whole = dir.path().join("srv/quay").join(path);
        std::fs::create_dir_all(whole.parent().unwrap()).unwrap();
        std::fs::write(whole, text).unwrap();
    }
    let host = Host::at(dir.path()).unwrap();
    let progress = Progress::default();
    let deployed = Deployed::read(&host, Path::new("/srv/quay"), std::collections::BTreeSet::new(), &progress).unwrap();
    let mut facts = read(&deployed, |_| false, &progress);
    let mut callees = Callees::default();
    add_calls(&deployed, &mut facts, Path::new("public"), &mut callees);
    let code = Code::new(&deployed, &facts, Path::new("public"), &callees);
    let mut found: Vec<String> = code
        .touched()
        .into_iter()
        .filter(|touched| touched.sink == sink)
        .map(|touched| {
            let path = match &touched.spot {
                Location::Inside(path) => path.display().to_string(),
                Location::Outside(path) => path.display().to_string(),
            };
            if touched.whole == Whole::FolderOnly { format!("{path}/…") } else { path }
        })
        .collect();
    found.sort();
    found.dedup();
    found
}

/// What is made by `mkdir(EXPRESSION)` in `lib/quay.php`.
fn made(before: &str, expression: &str) -> Vec<String> {
    touched(&[("lib/quay.php", &format!("<?php\n{before}\nmkdir({expression});"))], Sink::MakeDirectory)
}

#[rstest]
#[case::text("__DIR__ . '/a'", "lib/a")]
#[case::upwards("__DIR__ . '/../a'", "a")]
#[case::upwards_in_the_middle("__DIR__ . '/x/../../a/./b//c'", "a/b/c")]
#[case::file("__FILE__ . '.d'", "lib/quay.php.d")]
#[case::dirname("dirname(__FILE__) . '/a'", "lib/a")]
#[case::dirname_twice("dirname(dirname(__FILE__)) . '/a'", "a")]
#[case::dirname_levels("dirname(__FILE__, 2) . '/a'", "a")]
#[case::dirname_of_dir("dirname(__DIR__) . '/a'", "a")]
#[case::braces("\"{$base}/a\"", "base/a")]
#[case::plain_variable("\"$base/a\"", "base/a")]
#[case::escapes("\"\\x61\" . __DIR__", "")]
#[case::separator("__DIR__ . DIRECTORY_SEPARATOR . 'a'", "lib/a")]
#[case::realpath("realpath(__DIR__ . '/..') . '/a'", "a")]
#[case::trimmed("rtrim($base, '/') . '/a'", "base/a")]
#[case::formatted("sprintf('%s/%s/a', $base, 'x')", "base/x/a")]
#[case::formatted_with_numbers("sprintf('%1$s/%2$05d', $base, 7)", "base/…")]
#[case::joined("implode('/', [$base, 'x', 'a'])", "base/x/a")]
#[case::cast("(string) $base . '/a'", "base/a")]
#[case::in_brackets("((($base))) . ('/a')", "base/a")]
#[case::unknown_end("$base . '/a/' . date('Y')", "base/a/…")]
#[case::unknown_in_a_name("$base . '/a/x-' . $n . '.log'", "base/a/…")]
#[case::unknown_start("$unknown . '/a'", "")]
#[case::document_root("$_SERVER['DOCUMENT_ROOT'] . '/a'", "public/a")]
#[case::from_a_request("$_GET['dir'] . '/a'", "")]
#[case::an_address("'https://quay-1.example/a'", "")]
#[case::a_stream("'php://temp'", "")]
#[case::beside_the_tree("__DIR__ . '/../../a'", "/srv/a")]
#[case::above_all("__DIR__ . '/../../../../../a'", "")]
#[case::temporary("sys_get_temp_dir() . '/a'", "")]
#[case::elsewhere("'/var/lib/quay/a'", "/var/lib/quay/a")]
#[case::nothing("''", "")]
fn expressions(#[case] expression: &str, #[case] want: &str) {
    let found = made("$base = __DIR__ . '/../base';", expression);
    let want: Vec<&str> = if want.is_empty() { vec![] } else { vec![want] };
    assert_eq!(found, want);
}

#[rstest]
#[case::define("define('KEPT', __DIR__ . '/../kept');", "KEPT . '/a'", &["kept/a"])]
#[case::constant("const KEPT = __DIR__ . '/../kept';", "KEPT . '/a'", &["kept/a"])]
#[case::constant_by_name("define('KEPT', __DIR__ . '/../kept');", "constant('KEPT') . '/a'", &["kept/a"])]
#[case::on_each_other("define('A', __DIR__); define('B', A . '/b'); define('C', B . '/c');", "C", &["lib/b/c"])]
#[case::class_constant("class K { const P = __DIR__ . '/p'; }", "K::P", &["lib/p"])]
#[case::class_constant_of_a_namespace("class K { const P = __DIR__ . '/p'; }", "\\X\\K::P", &["lib/p"])]
#[case::static_variable("class K { public static $p = __DIR__ . '/p'; }", "K::$p", &["lib/p"])]
#[case::either("", "$x ? __DIR__ . '/a' : __DIR__ . '/b'", &["lib/a", "lib/b"])]
#[case::or_else("", "$x ?: __DIR__ . '/b'", &["lib/b"])]
#[case::default("", "$x ?? __DIR__ . '/b'", &["lib/b"])]
#[case::given_twice("$p = __DIR__ . '/a'; if (1) { $p = __DIR__ . '/b'; }", "$p", &["lib/a", "lib/b"])]
#[case::array("$s = ['p' => __DIR__ . '/p', 'q' => 1];", "$s['p']", &["lib/p"])]
#[case::array_of_the_program("$GLOBALS_['x']['kept_in'] = __DIR__ . '/p';", "$other['kept_in']", &["lib/p"])]
#[case::object("$cfg->keptin = __DIR__ . '/p';", "$other->keptin", &["lib/p"])]
#[case::function("function where() { return __DIR__ . '/p'; }", "where() . '/a'", &["lib/p/a"])]
#[case::method("class K { function where() { return __DIR__ . '/p'; } }", "$k->where() . '/a'", &["lib/p/a"])]
#[case::made_with("class K { private $v; function __construct($v) { $this->v = $v; } function v() { return $this->v; } }
    class G { static $s; static function get($k) { return self::$s[$k]; } } $k = new K('ropes'); G::$s = ['qk' => __DIR__ . '/' . $k->v()];",
    "G::get('qk') . '/a'", &["lib/ropes/a"])]
#[case::too_common("$x['path'] = __DIR__ . '/p';", "$y['path']", &[])]
#[case::no_path("$x['theme'] = 'blue';", "$y['theme']", &[])]
fn symbols(#[case] before: &str, #[case] expression: &str, #[case] want: &[&str]) {
    assert_eq!(made(before, expression), want);
}

#[rstest]
#[case::elements("foreach (['a', 'b'] as $p) mkdir(__DIR__ . \"/$p\");", &["lib/a", "lib/b"])]
#[case::keys("foreach (['a' => 1, 'b' => 2] as $p => $t) mkdir(__DIR__ . '/' . $p);", &["lib/a", "lib/b"])]
#[case::a_variable("$l = array('a', 'b'); foreach ($l as $p) { mkdir(__DIR__ . '/' . $p); }", &["lib/a", "lib/b"])]
#[case::appended("$l[] = 'a'; $l[] = 'b'; foreach ($l as $p) { mkdir(__DIR__ . '/' . $p); }", &["lib/a", "lib/b"])]
#[case::by_key("$l['x'] = 'a'; foreach ($l as $p) { mkdir(__DIR__ . '/' . $p); }", &["lib/a"])]
#[case::merged("foreach (array_merge(['a'], ['b']) as $p) { mkdir(__DIR__ . '/' . $p); }", &["lib/a", "lib/b"])]
#[case::a_wrapper("function m($p) { mkdir(__DIR__ . '/' . $p); } m('a'); m('b');", &["lib/a", "lib/b"])]
#[case::a_method("class K { function m($x, $p) { mkdir(__DIR__ . '/' . $p); } } $k->m(1, 'a');", &["lib/a"])]
#[case::a_static_method("class K { static function m($p) { mkdir(__DIR__ . '/' . $p); } } K::m('a');", &["lib/a"])]
#[case::a_constructor("class K { private $d; function __construct($d) { $this->d = $d; } function m() { mkdir($this->d . '/a'); } } new K(__DIR__);", &["lib/a"])]
#[case::promoted("class K { function __construct(private string $d) {} function m() { mkdir($this->d); } } new K(__DIR__ . '/a');", &["lib/a"])]
#[case::inherited("class P { protected $d = __DIR__ . '/a'; } class K extends P { function m() { mkdir($this->d); } }", &["lib/a"])]
#[case::silenced("@mkdir(__DIR__ . '/a');", &["lib/a"])]
#[case::of_the_root_namespace("namespace X; \\mkdir(__DIR__ . '/a');", &["lib/a"])]
#[case::in_a_condition("if (!is_dir($d = __DIR__ . '/a') && !mkdir($d)) die();", &["lib/a"])]
#[case::in_html("?><p><?php mkdir(__DIR__ . '/a') ?></p>", &["lib/a"])]
#[case::in_a_comment("// mkdir(__DIR__ . '/a');\n/* mkdir('b'); */", &[])]
#[case::in_a_text("$t = 'mkdir(__DIR__ . \"/a\")';", &[])]
#[case::of_another_name("my_mkdir(__DIR__ . '/a');", &[])]
fn statements(#[case] code: &str, #[case] want: &[&str]) {
    assert_eq!(touched(&[("lib/quay.php", &format!("<?php {code}"))], Sink::MakeDirectory), want);
}

#[rstest]
#[case("is_writable(__DIR__ . '/a')", Sink::Check)]
#[case("is_writeable(__DIR__ . '/a')", Sink::Check)]
#[case("file_put_contents(__DIR__ . '/a', 1)", Sink::Write)]
#[case("fopen(__DIR__ . '/a', 'ab')", Sink::Write)]
#[case("fopen(__DIR__ . '/a', 'r+')", Sink::Write)]
#[case("gzopen(__DIR__ . '/a', 'w9')", Sink::Write)]
#[case("error_log('x', 3, __DIR__ . '/a')", Sink::Write)]
#[case("new PDO('sqlite:' . __DIR__ . '/a')", Sink::Write)]
#[case("new \\SQLite3(__DIR__ . '/a')", Sink::Write)]
#[case("imagepng($i, __DIR__ . '/a')", Sink::Write)]
#[case("move_uploaded_file($f, __DIR__ . '/a')", Sink::MoveTo)]
#[case("rename($f, __DIR__ . '/a')", Sink::MoveTo)]
#[case("copy($f, __DIR__ . '/a')", Sink::MoveTo)]
#[case("tempnam(__DIR__ . '/a', 'x')", Sink::MoveTo)]
#[case("$zip->extractTo(__DIR__ . '/a')", Sink::MoveTo)]
#[case("chmod(__DIR__ . '/a', 0777)", Sink::Open)]
#[case("session_save_path(__DIR__ . '/a')", Sink::Session)]
#[case("ini_set('session.save_path', __DIR__ . '/a')", Sink::Session)]
#[case("$view->setCompileDir(__DIR__ . '/a')", Sink::Setting)]
#[case("$cache_dir = __DIR__ . '/a'", Sink::Setting)]
#[case("require __DIR__ . '/a'", Sink::Load)]
#[case("parse_ini_file(__DIR__ . '/a')", Sink::Load)]
#[case("is_file(__DIR__ . '/a')", Sink::Look)]
fn what_is_done_with_a_path(#[case] code: &str, #[case] sink: Sink) {
    assert_eq!(touched(&[("lib/quay.php", &format!("<?php {code};"))], sink), ["lib/a"]);
}

#[rstest]
#[case("fopen(__DIR__ . '/a', 'rb')")]
#[case("fopen(__DIR__ . '/a', $mode)")]
#[case("chmod(__DIR__ . '/a', 0644)")]
#[case("error_log('x')")]
#[case("new PDO('mysql:host=x')")]
#[case("copy(__DIR__ . '/a', $there)")]
#[case("ini_set('memory_limit', __DIR__ . '/a')")]
fn what_writes_nothing(#[case] code: &str) {
    for sink in [Sink::Write, Sink::MoveTo, Sink::Open, Sink::Session, Sink::Setting] {
        assert_eq!(touched(&[("lib/quay.php", &format!("<?php {code};"))], sink), [] as [&str; 0]);
    }
}

#[test]
fn files_are_read_together() {
    let files = [
        ("index.php", "<?php define('BASE', __DIR__); require 'lib/quay.php'; keep('rows');"),
        ("config/settings.php", "<?php return ['kept_in' => 'kept/'];"),
        (
            "lib/quay.php",
            "<?php function keep($what) { global $settings; file_put_contents(BASE . '/' . $settings['kept_in'] . $what . '/x', 1); }",
        ),
        ("kept/rows/a", ""),
    ];
    assert_eq!(touched(&files, Sink::Write), ["kept/rows/x"]);
}

#[test]
fn what_a_function_answers_is_a_path_or_one_of_many_things() {
    let answers = |sentences: usize| {
        let all: String = (0..sentences).map(|at| format!("if ($x == {at}) return 'No. {at}, sir!';\n")).collect();
        let code = format!("<?php function what($x) {{ {all} return 'kept'; }} mkdir(__DIR__ . '/' . what($y));");
        touched(&[("lib/quay.php", &code)], Sink::MakeDirectory)
    };
    assert_eq!(answers(2), ["lib/kept"]);
    assert_eq!(answers(20), ["lib/…"]);
    let chosen = |others: &str| {
        let code = format!("<?php function what($x) {{ {others} return asked($x); }} mkdir(__DIR__ . '/' . what($y));");
        touched(&[("lib/quay.php", &code)], Sink::MakeDirectory)
    };
    assert_eq!(chosen("if (!$x) return 'kept';"), ["lib/kept"]);
    assert_eq!(chosen("if ($x == 1) return 'harbour'; if ($x == 2) return 'crew';"), ["lib/…"]);
}

#[test]
fn what_is_called_everywhere_says_nothing_of_what_it_is_handed() {
    let makes = "<?php class K { function __construct($d) { $this->d = $d; } function m() { mkdir(__DIR__ . '/' . $this->d); } }";
    let calls = |count: usize| (0..count).map(|at| format!("new K('a{at}');\n")).collect::<String>();
    let made = |count: usize| {
        let more = format!("<?php {}", calls(count));
        touched(&[("lib/quay.php", makes), ("lib/more.php", &more)], Sink::MakeDirectory)
    };
    assert_eq!(made(2), ["lib/a0", "lib/a1"]);
    assert_eq!(made(60), ["lib/…"]);
    assert_eq!(made(200), ["lib/…"]);
}

#[test]
fn what_tests_set_is_not_the_applications() {
    let files = [
        ("lib/quay.php", "<?php define('KEPT', __DIR__ . '/../kept'); mkdir(KEPT . '/a');"),
        ("tests/start.php", "<?php define('KEPT', '/tmp/quay/x'); define('KEPT', __DIR__ . '/kept');"),
    ];
    assert_eq!(touched(&files, Sink::MakeDirectory), ["kept/a"]);
}

#[rstest]
#[case::settings("<?php\n$a = 1;\ndefine('B', 2);\nreturn ['c' => 3];", true, false)]
#[case::guarded_settings("<?php\ndefined('X') or die();\n$a['b'] = 1;", true, false)]
#[case::a_class("<?php\nnamespace X;\nuse Y\\Z;\nclass A {}", false, true)]
#[case::a_class_in_braces("<?php\nnamespace X { class A {} }", false, true)]
#[case::a_page("<?php\nrequire 'a.php';\necho 1;\n$a = 2;", false, false)]
#[case::a_page_with_functions("<?php\nfunction f() {}\nf();", false, false)]
fn shapes(#[case] code: &str, #[case] settings: bool, #[case] only_defines: bool) {
    let shape = one(Path::new("quay.php"), code.as_bytes(), &HashSet::new()).unwrap().shape;
    assert_eq!((shape.is_settings(), shape.only_defines()), (settings, only_defines));
}

#[rstest]
#[case("#!/usr/bin/env php\n<?php touch('a');", true)]
#[case("<?php if (php_sapi_name() !== 'cli') { exit; } touch('a');", true)]
#[case("<?php if (PHP_SAPI === 'cli') { $x = 1; } touch('a');", false)]
#[case("<?php touch('a');", false)]
fn scripts_for_the_command_line(#[case] code: &str, #[case] want: bool) {
    assert_eq!(one(Path::new("quay.php"), code.as_bytes(), &HashSet::new()).unwrap().command_line, want);
}

/// The time is linear in what a file holds, however it is made: a text with very many values, a sum of very many.
#[rstest]
#[case::values_in_a_text(format!("mkdir(\"/a{}\");", "{$b}/".repeat(60_000)))]
#[case::names_in_a_text(format!("mkdir(\"/a{}\");", "$b/".repeat(100_000)))]
#[case::a_sum(format!("mkdir('/a' {});", ". $b".repeat(100_000)))]
#[case::a_list(format!("$x = [{}]; foreach ($x as $y) mkdir($y);", "'k' => $b,".repeat(60_000)))]
fn very_much_is_read(#[case] code: String) {
    assert!(touched(&[("lib/quay.php", &format!("<?php {code}"))], Sink::MakeDirectory).len() <= 1);
}
