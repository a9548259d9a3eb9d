DROP TABLE declined;
