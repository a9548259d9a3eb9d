DROP TABLE forecast;
