DROP TABLE metric_total;
DROP TABLE metric_minute;
DROP TABLE held;
