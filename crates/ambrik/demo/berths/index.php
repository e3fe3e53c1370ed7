<?php
// Mooring bookings: the list of berths, and a form that books one.
require __DIR__ . '/lib/bootstrap.php';

$bookings = new Bookings($settings['data']);
$message = '';
if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $berth = (string) ($_POST['berth'] ?? '');
    $vessel = trim((string) ($_POST['vessel'] ?? ''));
    $message = $bookings->book($berth, $vessel) ? $text['booked'] : $text['refused'];
    log_line($settings, "booking of $berth by $vessel");
}
page('list', ['title' => $text['title'], 'message' => $message, 'berths' => $bookings->all(), 'text' => $text]);
