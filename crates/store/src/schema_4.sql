-- Which case a change was about, so that it can be taken back; it may be forgotten.
ALTER TABLE change ADD COLUMN link INTEGER;
