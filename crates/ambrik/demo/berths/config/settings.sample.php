<?php
// Copy this file to settings.php, or let install/ do it.
return [
    'language' => 'en',
    'data' => __DIR__ . '/../uploads/bookings.json',
    'admin_password' => 'change-me',
    'secret_key' => 'change-me',
];
