<?php
/** Readings of gauges: one CSV file a gauge and day. */
final class Readings
{
    public function __construct(private string $data, private string $cache)
    {
    }

    /** @return array<string, float> the latest level of each gauge in metres */
    public function latest(): array
    {
        $kept = $this->cache . '/latest.json';
        if (is_file($kept) && filemtime($kept) > time() - 60) {
            return json_decode((string) file_get_contents($kept), true);
        }
        $latest = [];
        foreach (glob($this->data . '/*/*.csv') as $file) {
            $lines = file($file, FILE_IGNORE_NEW_LINES | FILE_SKIP_EMPTY_LINES);
            $latest[basename(dirname($file))] = (float) explode(';', (string) end($lines))[1];
        }
        file_put_contents($kept, json_encode($latest));
        return $latest;
    }
}
