<?php

namespace PlateVault\Image;

final class Thumbnail
{
    public static function of(string $plate, string $folder): string
    {
        $target = $folder . '/' . basename($plate) . '.jpg';
        if (class_exists(\Imagick::class)) {
            $image = new \Imagick($plate);
            $image->thumbnailImage(400, 0);
            $image->writeImage($target);
        } elseif (function_exists('imagecreatefromstring')) {
            $image = imagescale(imagecreatefromstring(file_get_contents($plate)), 400);
            imagejpeg($image, $target);
        } else {
            exec('convert ' . escapeshellarg($plate) . ' -thumbnail 400 ' . escapeshellarg($target));
        }
        return $target;
    }
}
