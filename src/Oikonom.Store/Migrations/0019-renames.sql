-- The wish a name was taken for: an account whose name follows its person is renamed when the wish becomes another. '' where it
-- was taken before this was kept.
ALTER TABLE names ADD COLUMN wish TEXT NOT NULL DEFAULT '';

-- The names an account had before, the oldest first, as a JSON list.
ALTER TABLE accounts ADD COLUMN former TEXT NOT NULL DEFAULT '[]';
