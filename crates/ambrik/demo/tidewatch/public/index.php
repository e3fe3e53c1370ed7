<?php
// Gauge readings: the latest of each gauge, out of data/.
require __DIR__ . '/../src/Readings.php';

$settings = parse_ini_file(__DIR__ . '/../config/gauges.ini', true);
$readings = new Readings(__DIR__ . '/../data', __DIR__ . '/../var/cache');
header('Content-Type: text/html; charset=utf-8');
echo '<!doctype html><title>Tide watch</title><link rel="stylesheet" href="assets/style.css"><h1>Tide watch</h1><ul>';
foreach ($readings->latest() as $gauge => $level) {
    printf('<li>%s: %.2f m', htmlspecialchars($settings['names'][$gauge] ?? $gauge), $level);
}
echo '</ul>';
