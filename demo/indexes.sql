CREATE INDEX boarding_scan_scanned_at ON boarding_scan (scanned_at);
CREATE INDEX boarding_scan_booking ON boarding_scan (booking_id);
CREATE INDEX engine_reading_read_at ON engine_reading (read_at);
CREATE INDEX notice_sent_on ON notice (sent_on);
CREATE INDEX payment_booking ON payment (booking_id);
CREATE INDEX booking_passenger ON booking (passenger_id);
CREATE INDEX sailing_departs_at ON sailing (departs_at);
ANALYZE;
