<?php
/** A board of notices: one text file each. */
final class Board
{
    public function __construct(private string $folder)
    {
    }

    /** @return list<string> the notices, the newest first */
    public function all(): array
    {
        $files = glob($this->folder . '/*.txt');
        rsort($files);
        return array_map('file_get_contents', $files);
    }

    public function pin(string $text): void
    {
        file_put_contents($this->folder . '/' . date('Ymd-His') . '.txt', $text);
    }
}
