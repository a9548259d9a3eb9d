DROP TABLE rolled;
DROP TABLE ledger_day;
DROP TABLE ledger_hour;
