<?php
/** The bookings, one JSON file in the store. */
final class Bookings
{
    public function __construct(private string $file)
    {
    }

    /** @return array<string, string> the vessel at each berth; an empty text where it is free */
    public function all(): array
    {
        $kept = is_file($this->file) ? json_decode((string) file_get_contents($this->file), true) : [];
        $berths = [];
        foreach (range(1, 24) as $n) {
            $berth = sprintf('Q%02d', $n);
            $berths[$berth] = $kept[$berth] ?? '';
        }
        return $berths;
    }

    public function book(string $berth, string $vessel): bool
    {
        $all = $this->all();
        if ($vessel === '' || ($all[$berth] ?? 'none') !== '') {
            return false;
        }
        $all[$berth] = $vessel;
        return file_put_contents($this->file, json_encode($all), LOCK_EX) !== false;
    }
}
