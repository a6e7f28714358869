<?php

require __DIR__ . '/../vendor/autoload.php';

Hollin\load_settings(__DIR__ . '/../.env');

$readings = new Gauges\Bulletin\Readings(__DIR__ . '/../' . getenv('BULLETIN_DATABASE'));
$sheet = new Sheet('The wettest days');
foreach ($readings->wettest((int) (getenv('BULLETIN_ROWS') ?: 5)) as [$station, $day, $millimetres]) {
    $sheet->row($station, $day, $millimetres);
}
echo $sheet->text();
