<?php

use PHPUnit\Framework\TestCase;

final class VaultTest extends TestCase
{
    public function testIndex(): void
    {
        self::assertNotFalse(apcu_fetch('plates'));
    }
}
