DROP TABLE rollout;
