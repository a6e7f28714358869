<?php

namespace Pluvial\Almanac;

final class Amount
{
    /** What an observer writes for an amount of rain in millimetres. */
    public static function words(float $millimetres): string
    {
        if ($millimetres <= 0) {
            return 'dry';
        }
        return $millimetres < 0.3 ? 'a trace' : number_format($millimetres, 1) . ' mm';
    }
}
