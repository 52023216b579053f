insert into definition_versions (kind, name, version, file, text, saved_at, saved_by, saved_from, message) values
    ('report', 'ferry-weekly', 1, 'ferry-weekly.toml', E'[report]\nname = "ferry-weekly"\n', '2026-01-07 08:00+00', 'runa', 'console', 'the first'),
    ('report', 'ferry-weekly', 2, 'ferry-weekly.toml', null, '2026-01-08 08:00+00', 'runa', 'console', 'not wanted');
