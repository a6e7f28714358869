<?php

namespace Gauges\Bulletin;

use PDO;

final class Readings
{
    private PDO $database;

    public function __construct(string $file)
    {
        $this->database = new PDO("sqlite:$file", null, null, [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION]);
    }

    /** @return list<array{string, string, float}> the wettest days, the wettest first */
    public function wettest(int $count): array
    {
        $query = 'SELECT s.name, r.day, r.millimetres FROM stations s JOIN readings r ON r.station = s.id '
            . 'ORDER BY r.millimetres DESC, r.day LIMIT ' . $count;
        return $this->database->query($query)->fetchAll(PDO::FETCH_NUM);
    }
}
