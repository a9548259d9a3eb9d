DROP TABLE secret;
DROP TABLE token;
DROP TABLE revision;
