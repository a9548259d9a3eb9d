-- Whose account at the OpenID Connect provider a person is: its issuer and what it calls the account, on a line each.
ALTER TABLE person ADD COLUMN account TEXT;
CREATE UNIQUE INDEX person_account ON person (account);
