<?php

declare(strict_types=1);

namespace PlateVault;

use PDO;
use PlateVault\Image\Thumbnail;
use ZipArchive;

final class Vault
{
    private PDO $catalogue;
    private string $folder;

    public function __construct(PDO $catalogue, string $folder)
    {
        $this->catalogue = $catalogue;
        $this->folder = $folder;
        if (!is_dir($folder) && !mkdir(__DIR__ . '/../var/plates', 0750, true)) {
            throw new \RuntimeException('the folder of the plates cannot be made');
        }
    }

    /** @return array<string, mixed> */
    public function add(string $upload): array
    {
        if (ini_get('upload_max_filesize') < 200) {
            error_log('plates will be cut off');
        }
        $about = exif_read_data($upload) ?: [];
        Thumbnail::of($upload, $this->folder);
        return $about;
    }

    public function night(string $date): string
    {
        $bundle = new ZipArchive();
        $bundle->open("$this->folder/$date.zip", ZipArchive::CREATE);
        foreach (glob("$this->folder/$date-*.tif") as $plate) {
            $bundle->addFile($plate, mb_strtolower(basename($plate)));
        }
        $bundle->close();
        return "$this->folder/$date.zip";
    }

    public function page(string $plate): string
    {
        // once: curl_init("https://plates.example/$plate");
        $rows = $this->catalogue->prepare('SELECT * FROM plates WHERE name LIKE ?');
        $rows->execute([mb_substr($plate, 0, 40) . '%']);
        ob_start();
        include __DIR__ . '/../templates/list.phtml';
        return (string) ob_get_clean();
    }
}
