-- Saltmarsh Apiaries, a made-up honey cooperative, as it lived on MariaDB. One
-- statement ends with a line of its own: --
CREATE DATABASE saltmarsh CHARACTER SET utf8mb4
--
CREATE TABLE saltmarsh.keepers (
  id       int unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name     varchar(80) NOT NULL,
  email    varchar(120) NOT NULL UNIQUE,
  joined   date NOT NULL,
  skills   set('swarms','queens','wax','smoke') NOT NULL DEFAULT '',
  profile  json NOT NULL DEFAULT '{}',
  portrait mediumblob
)
--
CREATE TABLE saltmarsh.apiaries (
  code      varchar(30) NOT NULL PRIMARY KEY,
  keeper_id int unsigned NOT NULL,
  name      varchar(80) NOT NULL,
  place     point,
  area_ha   decimal(8,2),
  opened    time,
  CONSTRAINT apiaries_keeper FOREIGN KEY (keeper_id) REFERENCES saltmarsh.keepers (id)
)
--
CREATE TABLE saltmarsh.hives (
  apiary  varchar(30) NOT NULL,
  number  tinyint unsigned NOT NULL,
  queen   varchar(40) CHARACTER SET latin1,
  temper  enum('calm','steady','nervous','fierce') NOT NULL DEFAULT 'calm',
  frames  smallint NOT NULL,
  stores  decimal(20,4) NOT NULL DEFAULT 0,
  marks   bit(12),
  notes   text,
  PRIMARY KEY (apiary, number),
  CONSTRAINT hives_apiary FOREIGN KEY (apiary) REFERENCES saltmarsh.apiaries (code)
)
--
CREATE TABLE saltmarsh.inspections (
  id           uuid NOT NULL PRIMARY KEY,
  apiary       varchar(30) NOT NULL,
  number       tinyint unsigned NOT NULL,
  inspected_at datetime(3) NOT NULL,
  temper       enum('calm','steady','nervous','fierce'),
  brood_frames tinyint,
  findings     json,
  photo        longblob,
  KEY inspections_when (inspected_at),
  CONSTRAINT inspections_hive FOREIGN KEY (apiary, number) REFERENCES saltmarsh.hives (apiary, number)
)
--
CREATE TABLE saltmarsh.scale_readings (
  id          bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
  apiary      varchar(30) NOT NULL,
  number      smallint NOT NULL,
  read_at     datetime NOT NULL,
  weight_kg   decimal(7,3) NOT NULL,
  inside_c    float,
  outside_c   double,
  humidity    tinyint unsigned,
  battery_mv  mediumint,
  firmware    varchar(40) NOT NULL,
  remark      text,
  KEY scale_readings_hive (apiary, number, read_at)
)
--
CREATE TABLE saltmarsh.harvest_lots (
  id         int NOT NULL AUTO_INCREMENT PRIMARY KEY,
  lot        varchar(20) NOT NULL UNIQUE,
  grade      enum('dark','amber','light','extra light'),
  net_kg     decimal(9,3) NOT NULL,
  jars       int GENERATED ALWAYS AS (net_kg * 2) STORED,
  season     year,
  pressed_on date,
  best_until datetime
)
--
CREATE TABLE saltmarsh.lot_sources (
  lot_id int NOT NULL,
  apiary varchar(30) NOT NULL,
  share  decimal(5,4) NOT NULL,
  PRIMARY KEY (lot_id, apiary),
  CONSTRAINT sources_lot FOREIGN KEY (lot_id) REFERENCES saltmarsh.harvest_lots (id)
)
--
CREATE TABLE saltmarsh.visitor_notes (written_at timestamp(3) NOT NULL, visitor varchar(40), note text)
--
CREATE TABLE saltmarsh.weather (
  observed_on date NOT NULL,
  station     int NOT NULL,
  rain_mm     decimal(5,1),
  wind        float,
  PRIMARY KEY (observed_on, station)
)
--
CREATE TABLE saltmarsh.market_stalls (
  stall_no    int NOT NULL PRIMARY KEY,
  town        varchar(60) NOT NULL,
  `rent €`    decimal(8,2),
  `on sunday` tinyint(1) NOT NULL DEFAULT 0
)
--
CREATE TABLE saltmarsh.orders (
  id         bigint NOT NULL AUTO_INCREMENT PRIMARY KEY,
  stall      int,
  placed_at  datetime(6) NOT NULL,
  total      decimal(12,2) NOT NULL,
  paid       tinyint NOT NULL DEFAULT 0,
  sender     inet6,
  CONSTRAINT orders_stall FOREIGN KEY (stall) REFERENCES saltmarsh.market_stalls (stall_no)
)
--
CREATE TABLE saltmarsh.order_lines (
  order_id bigint NOT NULL,
  line     smallint NOT NULL,
  lot_id   int,
  jars     int NOT NULL,
  price    decimal(8,2) NOT NULL,
  PRIMARY KEY (order_id, line),
  CONSTRAINT lines_order FOREIGN KEY (order_id) REFERENCES saltmarsh.orders (id)
)
--
CREATE USER 'app'@'127.0.0.1'
--
GRANT SELECT, INSERT, UPDATE, DELETE ON saltmarsh.* TO 'app'@'127.0.0.1'
