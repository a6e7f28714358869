<?php

use Pluvial\Almanac\Amount;

/** A page with one table. */
final class Sheet
{
    private string $title;
    private array $rows = [];

    public function __construct(string $title)
    {
        $this->title = $title;
    }

    public function row(string $station, string $day, float $millimetres): void
    {
        $this->rows[] = [$station, $day, Amount::words($millimetres)];
    }

    public function text(): string
    {
        $lines = array_map(
            static fn (array $row): string => '<tr><td>' . implode('</td><td>', array_map('htmlspecialchars', $row)) . '</td></tr>',
            $this->rows
        );
        $title = htmlspecialchars($this->title);
        return "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>$title</title></head>"
            . "<body><h1>$title</h1><table>" . implode("\n", $lines) . '</table></body></html>';
    }
}
