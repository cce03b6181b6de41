<?php

class Chart
{
    public function precise(string $one, string $two): string
    {
        return bcadd($one, $two, 12);
    }
}
