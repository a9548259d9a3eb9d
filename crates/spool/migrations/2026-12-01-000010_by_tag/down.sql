DROP TABLE tag_pending;
DROP TABLE tag_day;
DROP TABLE tag_hour;
DROP TABLE tag_minute;
DROP INDEX tag_account_key;
DROP TABLE tag_account;
DROP TABLE tag;
