-- values_from of a ward file is called values_in.
UPDATE wards SET file = replace(file, 'values_from:', 'values_in:');
