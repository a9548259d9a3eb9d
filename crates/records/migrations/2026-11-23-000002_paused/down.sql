DROP TABLE paused;
