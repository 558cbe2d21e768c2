<?php

// The labels of what lies in the depot.
require __DIR__ . '/../vendor/autoload.php';

$crates = ['Ropes' => 40, 'Lamps' => 12, 'Charts' => 3];

header('Content-Type: application/json');
echo json_encode(array_map(Kestrel\Label::of(...), array_keys($crates), $crates)), "\n";
