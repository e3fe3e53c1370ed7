<?php
// What every page needs: settings, language, classes.
$file = __DIR__ . '/../config/settings.php';
if (!is_file($file)) {
    header('Location: install/');
    exit;
}
$settings = require $file;
$text = require __DIR__ . '/../lang/' . basename($settings['language']) . '.php';
require __DIR__ . '/Bookings.php';
require __DIR__ . '/page.php';

function log_line(array $settings, string $line): void
{
    @file_put_contents(__DIR__ . '/../var/log/berths.log', date('c') . ' ' . $line . "\n", FILE_APPEND);
}
