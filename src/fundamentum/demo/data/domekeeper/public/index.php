<?php

enum Shutter: string
{
    case Open = 'open';
    case Closed = 'closed';
}

final class Dome
{
    public function __construct(private readonly PDO $schedule, private Shutter $shutter = Shutter::Closed)
    {
    }

    public function greeting(string $visitor): string
    {
        return (new MessageFormatter('en', 'Good night, {0}'))->format([$visitor]);
    }

    public function seal(string $order, string $key): string
    {
        return sodium_crypto_secretbox($order, random_bytes(SODIUM_CRYPTO_SECRETBOX_NONCEBYTES), $key);
    }
}

$dome = new Dome(new PDO('sqlite:' . __DIR__ . '/../var/schedule.db'));
