-- What a skilled engineer would do instead: load both lists, join them on
-- normalised keys with uniqueness checks, write the result, export it.
-- psql -v people=… -v accounts=… -v twins_file=… -v changes_file=… -v findings_file=… -f anchor.sql
\set ON_ERROR_STOP on
\timing off
CREATE UNLOGGED TABLE p (staff_no text, given_name text, middle text, family_name text, mail text, phone text, job_title text, department text, site text, status text, employment text, start_date text, room text, cost_centre text, born text);
CREATE UNLOGGED TABLE a (account_id text, external_id text, login text, given text, family text, display text, mail text, other_mail text, phone text, title text, dept text, active text, created text);
\set load_people '\\copy p FROM ' :'people' ' WITH (FORMAT csv, HEADER)'
:load_people
\set load_accounts '\\copy a FROM ' :'accounts' ' WITH (FORMAT csv, HEADER)'
:load_accounts
ANALYZE p; ANALYZE a;
CREATE UNLOGGED TABLE pk AS
  SELECT staff_no, lower(trim(staff_no)) AS k1, nullif(lower(trim(mail)), '') AS k2 FROM p;
CREATE UNLOGGED TABLE ak AS
  SELECT account_id, nullif(lower(trim(external_id)), '') AS k1, NULL::text AS k2 FROM a;
CREATE UNLOGGED TABLE am AS
  SELECT DISTINCT account_id, lower(trim(m)) AS k2 FROM a, unnest(array_append(string_to_array(other_mail, ';'), mail)) AS m WHERE trim(m) <> '';
ANALYZE pk; ANALYZE ak; ANALYZE am;
CREATE UNLOGGED TABLE by1 AS
  SELECT x.staff_no, y.account_id, 1 AS key FROM
    (SELECT k1, min(staff_no) AS staff_no FROM pk WHERE k1 IS NOT NULL GROUP BY k1 HAVING count(*) = 1) x
    JOIN (SELECT k1, min(account_id) AS account_id FROM ak WHERE k1 IS NOT NULL GROUP BY k1 HAVING count(*) = 1) y USING (k1);
CREATE UNLOGGED TABLE by2 AS
  SELECT x.staff_no, y.account_id, 2 AS key FROM
    (SELECT k2, min(staff_no) AS staff_no FROM pk WHERE k2 IS NOT NULL GROUP BY k2 HAVING count(*) = 1) x
    JOIN (SELECT k2, min(account_id) AS account_id FROM am GROUP BY k2 HAVING count(*) = 1) y USING (k2);
CREATE UNLOGGED TABLE pairs AS
  SELECT staff_no, account_id, min(key) AS key FROM (SELECT * FROM by1 UNION ALL SELECT * FROM by2) u GROUP BY staff_no, account_id;
CREATE UNLOGGED TABLE twins AS
  SELECT staff_no, account_id, key FROM (
    SELECT *, count(*) OVER (PARTITION BY staff_no) AS np, count(*) OVER (PARTITION BY account_id) AS na FROM pairs) q
  WHERE np = 1 AND na = 1;
ANALYZE twins;
CREATE UNLOGGED TABLE changes AS
  SELECT t.staff_no, t.account_id, 'set' AS verb, 'title' AS attribute, a.title AS old, p.job_title AS new
    FROM twins t JOIN p USING (staff_no) JOIN a USING (account_id) WHERE p.status = 'A' AND lower(trim(p.job_title)) <> lower(trim(a.title))
  UNION ALL SELECT t.staff_no, t.account_id, 'set', 'displayName', a.display, p.given_name || ' ' || p.family_name
    FROM twins t JOIN p USING (staff_no) JOIN a USING (account_id) WHERE p.status = 'A' AND lower(trim(a.display)) <> lower(trim(p.given_name || ' ' || p.family_name))
  UNION ALL SELECT t.staff_no, t.account_id, 'suspend', 'active', 'true', 'false'
    FROM twins t JOIN p USING (staff_no) JOIN a USING (account_id) WHERE p.status <> 'A' AND a.active = 'true'
  UNION ALL SELECT t.staff_no, t.account_id, 'mark', 'externalId', '', t.staff_no
    FROM twins t JOIN p USING (staff_no) JOIN a USING (account_id) WHERE p.status = 'A' AND a.external_id IS NULL
  UNION ALL SELECT p.staff_no, NULL, 'create', 'userName', NULL, lower(left(p.given_name, 1) || p.family_name)
    FROM p LEFT JOIN twins t USING (staff_no) WHERE t.staff_no IS NULL AND p.status = 'A';
CREATE UNLOGGED TABLE findings AS
  SELECT 'missing-account' AS code, p.staff_no, NULL AS account_id FROM p LEFT JOIN twins t USING (staff_no) WHERE t.staff_no IS NULL
  UNION ALL SELECT 'orphan-account', NULL, a.account_id FROM a LEFT JOIN twins t USING (account_id) WHERE t.account_id IS NULL
  UNION ALL SELECT 'leaver-active', staff_no, account_id FROM changes WHERE verb = 'suspend';
\set export_twins '\\copy (SELECT * FROM twins ORDER BY staff_no) TO ' :'twins_file' ' WITH (FORMAT csv, HEADER)'
:export_twins
\set export_changes '\\copy (SELECT * FROM changes ORDER BY verb, staff_no) TO ' :'changes_file' ' WITH (FORMAT csv, HEADER)'
:export_changes
\set export_findings '\\copy (SELECT * FROM findings ORDER BY code, staff_no, account_id) TO ' :'findings_file' ' WITH (FORMAT csv, HEADER)'
:export_findings
DROP TABLE p, a, pk, ak, am, by1, by2, pairs, twins, changes, findings;
