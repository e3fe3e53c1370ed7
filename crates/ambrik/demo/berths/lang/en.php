<?php
return [
    'title' => 'Berths at Quay 1',
    'free' => 'free',
    'booked' => 'The berth is yours.',
    'refused' => 'That berth cannot be booked.',
    'no_picture' => 'No picture came.',
    'not_kept' => 'The picture could not be kept.',
];
