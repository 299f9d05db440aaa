CREATE TABLE port (id int PRIMARY KEY, name varchar(60) NOT NULL UNIQUE, island varchar(60) NOT NULL, opened date NOT NULL);
CREATE TABLE vessel (id int PRIMARY KEY, name varchar(60) NOT NULL UNIQUE, class varchar(30) NOT NULL, seats int NOT NULL, built date NOT NULL, beacon varbinary(16) NOT NULL);
CREATE TABLE passenger (id int PRIMARY KEY, name varchar(100) NOT NULL, language char(2) NOT NULL, preferences json NOT NULL, joined_at datetime NOT NULL);
CREATE TABLE sailing (id int PRIMARY KEY, vessel_id int NOT NULL, from_port int NOT NULL, to_port int NOT NULL, departs_at datetime NOT NULL, cancelled boolean NOT NULL DEFAULT false);
CREATE TABLE booking (id int PRIMARY KEY, passenger_id int NOT NULL, reference varchar(20) NOT NULL UNIQUE, booked_at datetime NOT NULL, state varchar(20) NOT NULL, seats varchar(100) NOT NULL);
CREATE TABLE booking_leg (booking_id int NOT NULL, leg smallint NOT NULL, sailing_id int NOT NULL, deck varchar(20) NOT NULL, PRIMARY KEY (booking_id, leg));
CREATE TABLE payment (id int PRIMARY KEY, booking_id int NOT NULL, amount decimal(9,2) NOT NULL, method varchar(20) NOT NULL, paid_at datetime NOT NULL);
CREATE TABLE boarding_scan (id bigint PRIMARY KEY, booking_id int NOT NULL, sailing_id int NOT NULL, gate smallint NOT NULL,
	scanned_at datetime NOT NULL, outcome enum('ok', 'late', 'refused') NOT NULL, fare decimal(9,2), device uuid NOT NULL, note text);
CREATE TABLE engine_reading (id bigint NOT NULL, vessel_id int NOT NULL, read_at datetime NOT NULL, rpm int NOT NULL, temperature double NOT NULL, pressure float, alarm boolean NOT NULL, PRIMARY KEY (id, read_at))
	PARTITION BY RANGE COLUMNS (read_at) (/* one a month */);
CREATE TABLE notice (id int PRIMARY KEY, passenger_id int NOT NULL, sent_on date NOT NULL, channel varchar(10) NOT NULL, body text NOT NULL);
CREATE TABLE fare_change (from_port int NOT NULL, to_port int NOT NULL, effective_on date NOT NULL, fare decimal(7,2) NOT NULL, PRIMARY KEY (from_port, to_port, effective_on));
