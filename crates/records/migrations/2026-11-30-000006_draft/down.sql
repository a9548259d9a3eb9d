DROP TABLE draft;
