-- The key that signs what a registry tells of pushes, encrypted.
ALTER TABLE registries ADD COLUMN push_key BLOB;
