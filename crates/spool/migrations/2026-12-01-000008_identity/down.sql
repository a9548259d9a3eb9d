DROP TABLE identity;
