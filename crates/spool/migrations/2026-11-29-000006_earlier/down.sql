DROP TABLE resent;
ALTER TABLE quarantine DROP COLUMN earlier;
ALTER TABLE entry DROP COLUMN earlier;
