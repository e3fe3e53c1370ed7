<?php
// The installer: says what it cannot write, then makes the settings.
$root = dirname(__DIR__);
$needed = ['config/settings.php', 'uploads', 'var/cache', 'var/log'];
$missing = [];
foreach ($needed as $path) {
    $there = file_exists("$root/$path") ? "$root/$path" : dirname("$root/$path");
    if (!is_writable($there)) {
        $missing[] = $path;
    }
}
if ($missing) {
    echo "<h1>Not yet</h1><p>These cannot be written: <ul>";
    foreach ($missing as $path) {
        echo '<li>', htmlspecialchars($path);
    }
    exit('</ul>');
}
if ($_SERVER['REQUEST_METHOD'] !== 'POST') {
    exit('<form method="post"><h1>Install</h1>Password <input name="password"> <button>Install</button></form>');
}
$settings = require "$root/config/settings.sample.php";
$settings['data'] = "$root/uploads/bookings.json";
$settings['admin_password'] = password_hash((string) $_POST['password'], PASSWORD_DEFAULT);
$settings['secret_key'] = bin2hex(random_bytes(16));
file_put_contents("$root/config/settings.php", "<?php\nreturn " . var_export($settings, true) . ";\n");
@chmod("$root/config/settings.php", 0666);
echo '<h1>Installed</h1><p>Remove the folder install/ now.';
