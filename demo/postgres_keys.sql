-- Added once the tables are filled: checking all rows at once is much faster than one by one.
ALTER TABLE sailing ADD FOREIGN KEY (vessel_id) REFERENCES vessel (id);
ALTER TABLE sailing ADD FOREIGN KEY (from_port) REFERENCES port (id);
ALTER TABLE sailing ADD FOREIGN KEY (to_port) REFERENCES port (id);
ALTER TABLE booking ADD FOREIGN KEY (passenger_id) REFERENCES passenger (id);
ALTER TABLE booking_leg ADD FOREIGN KEY (booking_id) REFERENCES booking (id);
ALTER TABLE booking_leg ADD FOREIGN KEY (sailing_id) REFERENCES sailing (id);
ALTER TABLE payment ADD FOREIGN KEY (booking_id) REFERENCES booking (id);
ALTER TABLE boarding_scan ADD FOREIGN KEY (booking_id) REFERENCES booking (id);
ALTER TABLE boarding_scan ADD FOREIGN KEY (sailing_id) REFERENCES sailing (id);
ALTER TABLE engine_reading ADD FOREIGN KEY (vessel_id) REFERENCES vessel (id);
ALTER TABLE notice ADD FOREIGN KEY (passenger_id) REFERENCES passenger (id);
ALTER TABLE fare_change ADD FOREIGN KEY (from_port) REFERENCES port (id);
ALTER TABLE fare_change ADD FOREIGN KEY (to_port) REFERENCES port (id);
