<?php

final class VaultTest
{
    public function testIndex(): bool
    {
        return apcu_fetch('plates') !== false;
    }
}
