<?php

namespace PlateVault\Storage;

use PDO;

class Connection
{
    public static function open(): PDO
    {
        $settings = parse_ini_file(__DIR__ . '/../../config.ini');
        $login = [$settings['user'], $settings['password']];
        switch ($settings['kind']) {
            case 'pgsql':
                return new PDO("pgsql:host={$settings['host']};dbname=plates", ...$login);
            default:
                return new PDO("mysql:host={$settings['host']};dbname=plates", ...$login);
        }
    }
}
