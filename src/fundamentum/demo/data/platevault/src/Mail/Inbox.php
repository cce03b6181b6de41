<?php

namespace PlateVault\Mail;

final class Inbox
{
    /** @return iterable<string> */
    public function plates(string $mailbox, string $user, string $password): iterable
    {
        if (!function_exists('imap_open')) {
            return;
        }
        $box = imap_open($mailbox, $user, $password);
        foreach (imap_search($box, 'SUBJECT "plate"') ?: [] as $number) {
            yield imap_body($box, $number);
        }
        imap_close($box);
    }
}
