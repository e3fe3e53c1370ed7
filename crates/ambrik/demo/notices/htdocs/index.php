<?php
// The notice board: what hangs there, the newest first.
$settings = require '/etc/notices/settings.php';
require dirname(__DIR__) . '/lib/Board.php';

$board = new Board($settings['data']);
if ($_SERVER['REQUEST_METHOD'] === 'POST' && hash_equals($settings['key'], (string) ($_POST['key'] ?? ''))) {
    $board->pin((string) $_POST['text']);
    is_dir($settings['log']) || mkdir($settings['log']);
    error_log(date('c') . " pinned\n", 3, $settings['log'] . '/notices.log');
}
echo '<!doctype html><title>Notices</title><h1>Notices</h1>';
foreach ($board->all() as $text) {
    echo '<p>', nl2br(htmlspecialchars($text));
}
