-- What a roster that is gone has let the ward do at most, JSON.
ALTER TABLE wards ADD COLUMN limits TEXT NOT NULL DEFAULT '{}';
-- A kubeconfig that was sent as a text; encrypted.
ALTER TABLE clusters ADD COLUMN kubeconfig_text BLOB;
