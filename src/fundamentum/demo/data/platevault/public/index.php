<?php

declare(strict_types=1);

require __DIR__ . '/../src/autoload.php';

ini_set('memory_limit', '1G'); // a plate is unpacked in memory

if (!extension_loaded('mbstring')) {
    die('platevault needs mbstring for the names of plates.');
}

$vault = new PlateVault\Vault(PlateVault\Storage\Connection::open(), __DIR__ . '/../var/plates');
echo $vault->page($_GET['plate'] ?? '');
