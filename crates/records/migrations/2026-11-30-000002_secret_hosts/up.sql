-- To whom a secret may be shown, one on each line: hosts, `source:NAME`, or `anywhere`.
ALTER TABLE secret ADD COLUMN shown_to TEXT NOT NULL DEFAULT 'anywhere';
