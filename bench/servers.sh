#!/usr/bin/env bash
# Compares an application on PostgreSQL and MariaDB with the same work by hand in the server's own shell, on the same
# rows, in the same run, on private servers in a temporary folder. Prints medians of wall time and peak resident memory,
# and ratios to the work by hand. Needs: psql, mariadb, GNU time, python3. Usage: bench/servers.sh [ROWS] (100000), RUNS=3
set -euo pipefail
cd "$(dirname "$0")/.."
[ -n "${PROGRAM:-}" ] || cargo build --release -q -p marktwice
cargo build -q -p marktwice-testkit --bin servers
program=${PROGRAM:-$PWD/target/release/marktwice}
n=${1:-100000} runs=${RUNS:-3}
folder=$(mktemp -d); trap 'exec 9>&-; rm -rf "$folder"' EXIT
mkfifo "$folder/leash"
target/debug/servers <"$folder/leash" >"$folder/urls" &
exec 9>"$folder/leash"
while [ "$(wc -l <"$folder/urls")" -lt 2 ]; do sleep 0.2; done
cd "$folder"
postgres=$(sed -n 1p urls) maria=$(sed -n 2p urls)
export PSQL="psql -qAt postgresql://tester@/$(sed 's/.*@\/\(.*\)/\1/' <<<"$postgres")"
export MYSQL="mariadb -uroot -N -S ${maria##*socket=} scene_0"
sql="UPDATE inspection SET weight = weight + 1, note = upper(note) WHERE season = 2026"
words="'inspection note number ', i, ' with some words to make it about 120 bytes long, eggs seen'"
export sql

once() { # NAME COMMAND…: one line of figures
  local name=$1; shift
  /usr/bin/time -o figures -f "%e %M" "$@" >/dev/null
  echo "$name $(cat figures)" >>results
}

by_hand() { # SHELL: the rows selected before and after, and copied away
  $1 <<SQL
SELECT * FROM inspection WHERE season = 2026;
CREATE TABLE copy AS SELECT * FROM inspection WHERE season = 2026;
BEGIN;
$sql;
SELECT * FROM inspection WHERE season = 2026;
COMMIT;
DROP TABLE copy;
SQL
}
export -f by_hand

columns="inspection_id int PRIMARY KEY, hive_id int NOT NULL, day date NOT NULL, note varchar(200), weight decimal(12,2), season int NOT NULL"
fresh() { # NAME: the rows anew
  if [ "$1" = PostgreSQL ]; then
    $PSQL -c "DROP TABLE IF EXISTS inspection" -c "CREATE TABLE inspection ($columns)" \
      -c "INSERT INTO inspection SELECT i, i % 5000, date '2020-01-01' + i % 2000, concat($words), i * 0.37, 2026 FROM generate_series(1, $n) AS s(i)" \
      -c "VACUUM ANALYZE inspection" 2>/dev/null
  else
    $MYSQL -e "DROP TABLE IF EXISTS inspection; CREATE TABLE inspection ($columns);
      INSERT INTO inspection SELECT seq, seq % 5000, date_add('2020-01-01', interval seq % 2000 day), concat(${words/ i,/ seq,}), seq * 0.37, 2026 FROM seq_1_to_$n"
  fi
}

for engine in PostgreSQL MariaDB; do
  if [ $engine = PostgreSQL ]; then url=$postgres shell=$PSQL; else url=$maria shell=$MYSQL; fi
  rm -f results
  for _ in $(seq "$runs"); do
    rm -rf book
    fresh $engine; once bare bash -c "$shell <<<\"\$sql\""
    fresh $engine; once by-hand bash -c "by_hand \"$shell\""
    fresh $engine
    once preview "$program" preview --on "$url" --logbook book --sql "$sql"
    once apply "$program" apply --on "$url" --logbook book --rows "$n" --yes --sql "$sql"
    once undo "$program" undo --on "$url" --logbook book --rows "$n" --yes
  done
  python3 - "$engine" "$n" results <<'PY'
import statistics, sys
engine, rows, figures = sys.argv[1], int(sys.argv[2]), {}
for line in open(sys.argv[3]):
    name, wall, memory = line.split()
    figures.setdefault(name, []).append((float(wall), int(memory) / 1024))
median = {name: [statistics.median(column) for column in zip(*all)] for name, all in figures.items()}
print(f"\n{engine}, {rows} rows, medians of {len(figures['bare'])} runs\n{'':12}{'wall s':>9}{'peak MiB':>10}{'wall / by hand':>16}")
for name, (wall, memory) in median.items():
    print(f"{name:12}{wall:9.2f}{memory:10.1f}{wall / median['by-hand'][0]:16.2f}")
PY
done
