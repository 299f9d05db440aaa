CREATE TYPE scan_outcome AS ENUM ('ok', 'late', 'refused');
CREATE TABLE port (id integer PRIMARY KEY, name text NOT NULL UNIQUE, island text NOT NULL, opened date NOT NULL);
CREATE TABLE vessel (id integer PRIMARY KEY, name text NOT NULL UNIQUE, class text NOT NULL, seats integer NOT NULL, built date NOT NULL, beacon bytea NOT NULL);
CREATE TABLE passenger (id integer PRIMARY KEY, name text NOT NULL, language char(2) NOT NULL, preferences jsonb NOT NULL, joined_at timestamptz NOT NULL);
CREATE TABLE sailing (id integer PRIMARY KEY, vessel_id integer NOT NULL, from_port integer NOT NULL, to_port integer NOT NULL,
	departs_at timestamptz NOT NULL, cancelled boolean NOT NULL DEFAULT false);
CREATE TABLE booking (id integer PRIMARY KEY, passenger_id integer NOT NULL, reference text NOT NULL UNIQUE, booked_at timestamptz NOT NULL, state text NOT NULL, seats text[] NOT NULL);
CREATE TABLE booking_leg (booking_id integer NOT NULL, leg smallint NOT NULL, sailing_id integer NOT NULL, deck text NOT NULL, PRIMARY KEY (booking_id, leg));
CREATE TABLE payment (id integer PRIMARY KEY, booking_id integer NOT NULL, amount numeric(9,2) NOT NULL, method text NOT NULL, paid_at timestamptz NOT NULL);
CREATE TABLE boarding_scan (id bigint PRIMARY KEY, booking_id integer NOT NULL, sailing_id integer NOT NULL, gate smallint NOT NULL,
	scanned_at timestamptz NOT NULL, outcome scan_outcome NOT NULL, fare numeric(9,2), device uuid NOT NULL, note text);
CREATE TABLE engine_reading (id bigint, vessel_id integer NOT NULL, read_at timestamp NOT NULL, rpm integer NOT NULL, temperature double precision NOT NULL, pressure real, alarm boolean NOT NULL,
	PRIMARY KEY (id, read_at)) PARTITION BY RANGE (read_at);
CREATE TABLE notice (id integer PRIMARY KEY, passenger_id integer NOT NULL, sent_on date NOT NULL, channel text NOT NULL, body text NOT NULL);
CREATE TABLE fare_change (from_port integer NOT NULL, to_port integer NOT NULL, effective_on date NOT NULL, fare numeric(7,2) NOT NULL, PRIMARY KEY (from_port, to_port, effective_on));
