CREATE TRIGGER batch_price AFTER UPDATE OF price_per_kg ON batch
WHEN new.price_per_kg IS NOT old.price_per_kg
BEGIN
  INSERT INTO price_log (batch_id, old_price, new_price) VALUES (old.batch_id, old.price_per_kg, new.price_per_kg);
END;
