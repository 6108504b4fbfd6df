CREATE FUNCTION log_price() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  INSERT INTO price_log (batch_id, old_price, new_price) VALUES (old.batch_id, old.price_per_kg, new.price_per_kg);
  RETURN NULL;
END
$$;
CREATE TRIGGER batch_price AFTER UPDATE OF price_per_kg ON batch
FOR EACH ROW WHEN (new.price_per_kg IS DISTINCT FROM old.price_per_kg) EXECUTE FUNCTION log_price();
