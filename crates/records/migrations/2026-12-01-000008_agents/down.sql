DROP TABLE agent; DROP TABLE enrol_code; DROP TABLE authority;
