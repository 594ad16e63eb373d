-- +goose Up
-- What a step waits for a person to do: '' nothing, 'go on' at a hold point, 'word' that writes
-- have stopped. Its note says so in words, which decide nothing.
ALTER TABLE cutover_steps ADD COLUMN awaits text NOT NULL DEFAULT '' CHECK (awaits IN ('', 'go on', 'word'));
UPDATE cutover_steps SET awaits = CASE WHEN note LIKE 'waiting for a person''s word%' THEN 'word' ELSE 'go on' END
 WHERE state = 'running' AND note LIKE 'waiting for a person%';
