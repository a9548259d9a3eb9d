DROP TABLE taken_once;
DROP TABLE position;
