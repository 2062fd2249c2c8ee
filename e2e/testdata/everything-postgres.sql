CREATE EXTENSION IF NOT EXISTS plpgsql; CREATE EXTENSION citext; CREATE EXTENSION pg_trgm;
CREATE TYPE mood AS ENUM ('calm', 'it''s foggy', 'ü');
CREATE DOMAIN steps AS integer NOT NULL DEFAULT 141 CONSTRAINT positive CHECK (VALUE > 0);
CREATE TYPE spot AS (lat numeric(8,5), lon numeric(8,5));
CREATE SEQUENCE tickets START 100 INCREMENT 5 CACHE 1; SELECT nextval('tickets'), nextval('tickets');
CREATE FUNCTION slugify(t text) RETURNS text LANGUAGE sql IMMUTABLE AS $$ SELECT lower(regexp_replace(t, '\W+', '-', 'g')) $$;
CREATE TABLE pages (id bigserial PRIMARY KEY, title text NOT NULL, slug text GENERATED ALWAYS AS (slugify(title)) STORED, body text DEFAULT E'line\n"two"; it''s', tag citext UNIQUE, m mood DEFAULT 'calm', at timestamptz(6) DEFAULT now(), CHECK (length(title) > 0));
COMMENT ON TABLE pages IS 'semi;colon and ''quote'''; COMMENT ON COLUMN pages.title IS 'a title';
INSERT INTO pages (title, tag, body, at) VALUES (E'The \\ Lens\t\n', 'Lens', NULL, '2026-03-29 01:30:00.123456+01'), ('🔦', 'horn', '\N', 'infinity'), ('Boat', NULL, '\.', '0044-03-15 BC');
CREATE TABLE kinds (id int GENERATED ALWAYS AS IDENTITY (START 7 INCREMENT 3) PRIMARY KEY, b bytea, j json, jb jsonb, u uuid, a int[][], ta text[], r int4range, i interval, f float4, d float8, n numeric, p point, ip inet, mac macaddr, bt bit(5), vb varbit, x xml, ts tsvector, mo money, tt timetz, o oid, s spot, st steps, c char(6), nm name);
INSERT INTO kinds (b, j, jb, u, a, ta, r, i, f, d, n, p, ip, mac, bt, vb, x, ts, mo, tt, o, s, st, c, nm) VALUES
 ('\x0027ff5c', '{"a" : 1, "a":2}', '{"b": null}', 'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11', '{{1,2},{3,NULL}}', '{"a,b","\"q\"",NULL,""}', '[1,5)', '1 year -2 days 03:04:05.6', 1.1754944e-38, 0.1, 'NaN', '(1.5,-2)', '10.0.0.1/8', '08:00:2b:01:02:03', B'10101', B'1', '<a>b</a>', 'fat:1 rat:2', 12.50, '03:20:00+02', 42, '(50.1,-5.2)', 7, 'ab', 'n'),
 (NULL, NULL, NULL, NULL, NULL, NULL, 'empty', NULL, 'Infinity', '-0', 123456789012345678901234567890.123456789, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, 8, '', NULL);
CREATE TABLE parent (id int PRIMARY KEY, favourite int); CREATE TABLE child (id int, parent int REFERENCES parent ON DELETE CASCADE, PRIMARY KEY (parent, id), UNIQUE (id));
ALTER TABLE parent ADD CONSTRAINT fav FOREIGN KEY (favourite) REFERENCES child (id) DEFERRABLE INITIALLY DEFERRED;
BEGIN; INSERT INTO parent VALUES (1, 1); INSERT INTO child VALUES (1, 1); COMMIT;
CREATE TABLE logs (at date NOT NULL, entry text) PARTITION BY RANGE (at); CREATE TABLE logs_old PARTITION OF logs FOR VALUES FROM (MINVALUE) TO ('2020-01-01'); CREATE TABLE logs_new PARTITION OF logs DEFAULT; CREATE INDEX ON logs (at);
INSERT INTO logs VALUES ('1904-01-01', 'fog'), ('2026-01-01', 'gale');
CREATE TABLE keyless (j json, t text); INSERT INTO keyless VALUES ('{"x":1}', 'b'), (NULL, NULL), ('{"x":1}', 'b');
CREATE TABLE "odd ""name""; -- 'x'" ("select" int, "a b" text); INSERT INTO "odd ""name""; -- 'x'" VALUES (1, 'x');
CREATE TABLE nothing ();
CREATE INDEX trigram ON pages USING gin (title gin_trgm_ops); CREATE UNIQUE INDEX partial ON pages (lower(title)) WHERE tag IS NOT NULL;
CREATE VIEW z_base AS SELECT id, title FROM pages; CREATE VIEW a_top WITH (security_barrier) AS SELECT id FROM z_base WHERE title <> 'public.'; CREATE MATERIALIZED VIEW counted AS SELECT count(*) AS n FROM pages; CREATE UNIQUE INDEX ON counted (n);
CREATE FUNCTION first_page() RETURNS SETOF pages LANGUAGE sql STABLE AS 'SELECT * FROM pages LIMIT 1';
CREATE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS $body$ BEGIN NEW.title := trim(NEW.title); -- a; comment
 RETURN NEW; END $body$;
CREATE PROCEDURE tidy(n int) LANGUAGE plpgsql AS $$ BEGIN DELETE FROM keyless WHERE t = '$body$;'; END $$;
CREATE TRIGGER stamp BEFORE INSERT ON pages FOR EACH ROW WHEN (NEW.title <> '') EXECUTE FUNCTION stamp();
CREATE RULE quiet AS ON DELETE TO keyless DO INSTEAD NOTHING;
CREATE FUNCTION sober(m mood) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$ SELECT m <> 'ü' $$; CREATE DOMAIN day_mood AS mood CHECK (sober(VALUE)); CREATE TYPE pair AS (h float8, d day_mood); CREATE DOMAIN pairs AS pair; CREATE DOMAIN "C text" AS text COLLATE "C";
CREATE TABLE tides (h float8, p pairs, moods day_mood[], t "C text"); INSERT INTO tides VALUES (1.5, ROW(5, 'calm'), '{calm}', 'x');
CREATE FUNCTION widen(state float8, h float8) RETURNS float8 LANGUAGE sql IMMUTABLE AS $$ SELECT state + coalesce(h, 0) $$; CREATE AGGREGATE width(float8) (SFUNC = widen, STYPE = float8, INITCOND = '0', PARALLEL = SAFE);
CREATE VIEW aa_width AS SELECT width(h) FROM tides; CREATE VIEW ab_old AS SELECT 1 AS n; CREATE VIEW zz_new AS SELECT 2 AS n; CREATE OR REPLACE VIEW ab_old AS SELECT n FROM zz_new;
CREATE FUNCTION of_view(v zz_new) RETURNS int LANGUAGE sql AS 'SELECT v.n'; CREATE VIEW ac_function AS SELECT of_view(z) FROM zz_new z; CREATE FUNCTION atomic() RETURNS bigint LANGUAGE sql BEGIN ATOMIC SELECT count(*) FROM tides; END;
CREATE FUNCTION checked(k keyless) RETURNS boolean LANGUAGE sql IMMUTABLE AS 'SELECT true'; ALTER TABLE keyless ADD CONSTRAINT whole CHECK (checked(keyless)); CREATE MATERIALIZED VIEW later AS SELECT 1 AS one WITH NO DATA;
CREATE TABLE boats (name text NOT NULL, oars int CHECK (oars > 0)); CREATE TABLE motorboats (power int) INHERITS (boats); INSERT INTO boats VALUES ('Tern', 4); INSERT INTO motorboats VALUES ('Gull', 1, 90);
CREATE TRIGGER asleep BEFORE UPDATE ON pages FOR EACH ROW EXECUTE FUNCTION stamp(); ALTER TABLE pages DISABLE TRIGGER asleep; CREATE TRIGGER "ALL" BEFORE DELETE ON pages FOR EACH ROW EXECUTE FUNCTION stamp(); ALTER TABLE pages ENABLE ALWAYS TRIGGER "ALL";
CREATE STATISTICS pairing (dependencies) ON name, oars FROM boats;
