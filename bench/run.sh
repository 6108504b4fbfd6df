#!/usr/bin/env bash
# Compares an application with the same work by hand in the engine's own shell, on the same rows, in the same run.
# Prints medians of wall time, CPU time and peak resident memory, and ratios to the work by hand.
# Needs: sqlite3 (the shell), GNU time, python3. Usage: bench/run.sh [ROWS…] (100000 1000000), RUNS=3
set -euo pipefail
cd "$(dirname "$0")/.."
[ -n "${PROGRAM:-}" ] || cargo build --release -q -p marktwice
program=${PROGRAM:-$PWD/target/release/marktwice}
runs=${RUNS:-3}
folder=$(mktemp -d); trap 'rm -rf "$folder"' EXIT
cd "$folder"
sql="UPDATE inspection SET weight = weight + 1, note = upper(note) WHERE season = 2026"

once() { # NAME COMMAND…: one line of figures
  local name=$1; shift
  /usr/bin/time -o figures -f "%e %U %S %M" "$@" >/dev/null
  echo "$name $(cat figures)" >>results
}

by_hand() { # the database, with the rows selected before and after, or only counted
  local select=$2
  sqlite3 -bail "$1" <<SQL
$select
CREATE TABLE copy AS SELECT * FROM inspection WHERE season = 2026;
BEGIN IMMEDIATE;
$sql;
SELECT changes();
$select
COMMIT;
SQL
}
export -f by_hand; export sql

for rows in "${@:-100000 1000000}"; do for n in $rows; do
  rm -f base.db results
  sqlite3 base.db <<SQL
CREATE TABLE inspection (inspection_id INTEGER PRIMARY KEY, hive_id INT NOT NULL, day TEXT NOT NULL, note TEXT, weight REAL, season INT NOT NULL);
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < $n)
INSERT INTO inspection SELECT i, i % 5000, date('2020-01-01', '+' || (i % 2000) || ' day'),
  'inspection note number ' || i || ' with some words to make it about 120 bytes long, eggs seen', i * 0.37, 2026 FROM n;
CREATE INDEX inspection_season ON inspection (season);
SQL
  for _ in $(seq "$runs"); do
    rm -rf book
    cp base.db a.db; once bare sqlite3 a.db "$sql"
    cp base.db a.db; once by-hand-counted bash -c "by_hand a.db 'SELECT count(*) FROM inspection WHERE season = 2026;'"
    cp base.db a.db; once by-hand bash -c "by_hand a.db 'SELECT * FROM inspection WHERE season = 2026;'"
    cp base.db a.db
    once preview "$program" preview --on a.db --logbook book --sql "$sql"
    once preview-quick "$program" preview --quick --on a.db --logbook book --sql "$sql"
    once apply "$program" apply --on a.db --logbook book --rows "$n" --yes --sql "$sql"
    once undo "$program" undo --on a.db --logbook book --rows "$n" --yes
  done
  python3 - "$n" results <<'PY'
import statistics, sys
rows, figures = int(sys.argv[1]), {}
for line in open(sys.argv[2]):
    name, wall, user, system, memory = line.split()
    figures.setdefault(name, []).append((float(wall), float(user) + float(system), int(memory) / 1024))
median = {name: [statistics.median(column) for column in zip(*all)] for name, all in figures.items()}
print(f"\n{rows} rows, medians of {len(figures['bare'])} runs\n{'':18}{'wall s':>9}{'cpu s':>9}{'peak MiB':>10}{'wall / by hand':>16}")
for name, (wall, cpu, memory) in median.items():
    print(f"{name:18}{wall:9.2f}{cpu:9.2f}{memory:10.1f}{wall / median['by-hand'][0]:16.2f}")
PY
done; done
