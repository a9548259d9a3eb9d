DROP TABLE paused_source;
