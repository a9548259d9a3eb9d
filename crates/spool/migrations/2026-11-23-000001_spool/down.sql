DROP TABLE reached;
DROP TABLE quarantine;
DROP TABLE ledger_total;
DROP TABLE ledger_minute;
DROP TABLE entry;
DROP TABLE batch;
