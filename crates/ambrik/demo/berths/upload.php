<?php
// Takes a picture of a berth and keeps it in uploads/.
require __DIR__ . '/lib/bootstrap.php';

$file = $_FILES['picture'] ?? null;
if (!$file || $file['error'] !== UPLOAD_ERR_OK) {
    http_response_code(400);
    exit($text['no_picture']);
}
$name = preg_replace('/[^a-z0-9.-]/', '-', strtolower(basename($file['name'])));
if (!move_uploaded_file($file['tmp_name'], __DIR__ . '/uploads/' . $name)) {
    http_response_code(500);
    exit($text['not_kept']);
}
log_line($settings, "picture $name");
header('Location: uploads/' . rawurlencode($name));
