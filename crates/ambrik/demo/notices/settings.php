<?php
return [
    'data' => '/var/lib/notices',
    'log' => '/var/log/notices',
    'key' => 'made-up-key-of-the-board',
];
