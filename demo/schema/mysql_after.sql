//
CREATE TRIGGER batch_price AFTER UPDATE ON batch FOR EACH ROW
BEGIN
  IF NOT (new.price_per_kg <=> old.price_per_kg) THEN
    INSERT INTO price_log (batch_id, old_price, new_price) VALUES (old.batch_id, old.price_per_kg, new.price_per_kg);
  END IF;
END
//
