<?php

namespace Kestrel;

/** What is written on a crate. */
final class Label
{
    public static function of(string $goods, int $kilograms): string
    {
        return sprintf('%s, %d kg, Kestrel Sound', $goods, $kilograms);
    }
}
