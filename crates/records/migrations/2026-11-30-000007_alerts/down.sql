DROP TABLE notice; DROP TABLE silence; DROP TABLE alert;
