DROP TABLE stage;
