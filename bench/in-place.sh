#!/usr/bin/env bash
# What docs/performance.md says of tables that are compared where they are, in turn in one run, with medians and ratios:
#
#	bench/in-place.sh [RECORDS] [ROUNDS]
#
# compare of a table with one in which 1.1 % of the records differ, in one PostgreSQL: against the equally exact join alone, and
# against taking both and comparing what was taken; the same on three servers against one; SQLite; and the two read side by
# side in MariaDB. It needs the servers and the shards: .ci/servers start DIR, . DIR/env, .ci/shards start DIR, . DIR/env
set -euo pipefail
records=${1:-1000000} rounds=${2:-5}
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/paletwin" ./cmd/paletwin
go run ./bench/gen "$work" "$records" register.csv
cd "$work"
pg() { psql "$PALETWIN_TEST_POSTGRES" -q -v ON_ERROR_STOP=1 "$@"; }
on() { # on N: server N of the shards, 0 is the coordinator
	local base=${PALETWIN_TEST_SHARDS_URL##*:}
	local port=$((${base%%/*} + $1))
	shift
	psql "host=127.0.0.1 port=$port user=paletwin dbname=paletwin" -q -v ON_ERROR_STOP=1 "$@"
}
maria() { mariadb $PALETWIN_TEST_MARIADB --default-character-set=utf8mb4 "$@"; }
columns=$(head -1 register.csv)
typed=$(echo "$columns" | sed 's/,/ text, /g; s/$/ text/; s/\(latitude\|longitude\) text/\1 numeric(8,5)/g; s/service_fee text/service_fee numeric(10,2)/; s/\(installed\|next_service\) text/\1 date/g')
names=$(echo "$columns" | sed 's/,/, /g')
awk -F, -v OFS=, 'NR > 1 {
	h = (NR * 7919) % 100003
	if (h < 900) { $14 = sprintf("%.2f", $14 + 1.5); $15 = "checked" }
	if (h >= 900 && h < 1000) next
	print
	if (h >= 1000 && h < 1100) { $1 = "N" $1; print }
}' register.csv >after.csv
tail -n +2 register.csv >before.csv

pg -c "DROP SCHEMA IF EXISTS place CASCADE" -c "CREATE SCHEMA place"
for t in before after; do
	pg -c "CREATE TABLE place.$t ($typed, PRIMARY KEY (asset_no))" -c "\\copy place.$t FROM '$t.csv' CSV" -c "VACUUM ANALYZE place.$t"
	pg -c "CREATE TABLE place.parts ($typed) PARTITION BY HASH (asset_no)"
	on 0 -c "DROP TABLE IF EXISTS $t" -c "CREATE TABLE $t ($typed) PARTITION BY HASH (asset_no)"
	for i in 1 2 3; do pg -c "CREATE TABLE place.part$i PARTITION OF place.parts FOR VALUES WITH (MODULUS 3, REMAINDER $((i - 1)))"; done
	pg -c "\\copy place.parts FROM '$t.csv' CSV"
	for i in 1 2 3; do
		pg -c "\\copy place.part$i TO 'part.csv' CSV"
		on "$i" -c "DROP TABLE IF EXISTS $t" -c "CREATE TABLE $t ($typed, PRIMARY KEY (asset_no))" -c "\\copy $t FROM 'part.csv' CSV" -c "VACUUM ANALYZE $t"
		on 0 -c "CREATE FOREIGN TABLE ${t}_$i PARTITION OF $t FOR VALUES WITH (MODULUS 3, REMAINDER $((i - 1))) SERVER s$i OPTIONS (table_name '$t')"
	done
	pg -c "DROP TABLE place.parts"
	sqlite3 place.db "CREATE TABLE $t ($typed, PRIMARY KEY (asset_no))" ".import --csv $t.csv $t"
	maria --local-infile -e "DROP TABLE IF EXISTS place_$t; CREATE TABLE place_$t ($(echo "$typed" | sed 's/asset_no text/asset_no varchar(12) NOT NULL/'), PRIMARY KEY (asset_no)) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin; LOAD DATA LOCAL INFILE '$t.csv' INTO TABLE place_$t CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"'"
done

row() { for c in ${columns//,/ }; do printf '%s%s.%s::text COLLATE "C"' "${sep:-}" "$1" "$c"; sep=,; done; }
join="SET work_mem = '64MB'; SELECT count(*) FROM (SELECT 1 AS z, t.* FROM place.before t) a FULL JOIN (SELECT 1 AS z, t.* FROM place.after t) b
ON a.asset_no::text COLLATE \"C\" = b.asset_no::text COLLATE \"C\" WHERE a.z IS NULL OR b.z IS NULL OR ($(row a)) IS DISTINCT FROM ($(row b))"
compare() { ./paletwin compare "$@" --rehearse --key asset_no >/dev/null 2>"memory.$kind"; }
declare -A does=(
	[join]='pg -c "$join" >/dev/null'
	[postgresql]='compare "$PALETWIN_TEST_POSTGRES_URL#place.before" "$PALETWIN_TEST_POSTGRES_URL#place.after"'
	[exports]='rm -f [ab].csv; ./paletwin take "$PALETWIN_TEST_POSTGRES_URL#place.before" -o a.csv >/dev/null 2>&1; ./paletwin take "$PALETWIN_TEST_POSTGRES_URL#place.after" -o b.csv >/dev/null 2>&1; compare a.csv b.csv --with wear=off --with slips=off'
	[shards]='compare "$PALETWIN_TEST_SHARDS_URL#before" "$PALETWIN_TEST_SHARDS_URL#after"'
	[sqlite]='compare sqlite:place.db#before sqlite:place.db#after'
	[mariadb]='compare "$PALETWIN_TEST_MARIADB_URL#place_before" "$PALETWIN_TEST_MARIADB_URL#place_after"'
)
kinds="join postgresql exports shards sqlite mariadb"
for kind in $kinds; do eval "${does[$kind]}"; done # once to warm up
for _ in $(seq "$rounds"); do
	for kind in $kinds; do
		from=$(date +%s%N)
		eval "${does[$kind]}"
		echo "$kind $((($(date +%s%N) - from) / 1000000))" >>times
	done
done
median() { awk -v k="$1" '$1 == k { print $2 }' times | sort -n | awk '{ a[NR] = $1 } END { print a[int((NR + 1) / 2)] }'; }
echo "milliseconds, medians of $rounds, $records records, $(wc -l <after.csv) in the other table"
for kind in $kinds; do printf '%-12s %8d\n' "$kind" "$(median "$kind")"; done
ratio() { awk -v k="$1" -v of="$2" '$1 == k { a[++n] = $2 } $1 == of { b[++m] = $2 } END { for (i = 1; i <= n; i++) print a[i] / b[i] }' times | sort -n | awk '{ r[NR] = $1 } END { printf "%.2f", r[int((NR + 1) / 2)] }'; }
echo "in one PostgreSQL against the join alone     $(ratio postgresql join)   must 1.15"
echo "against both taken and compared              $(ratio postgresql exports)   must 1"
echo "three servers on this machine against one    $(ratio shards postgresql)   must 0.60"
for kind in postgresql shards sqlite mariadb; do
	eval "$(echo "${does[$kind]}" | sed "s#^compare#/usr/bin/time -f '%M' -o memory ./paletwin compare#; s#\$# --rehearse --key asset_no >/dev/null 2>\&1#")"
	echo "memory, $kind: $(($(cat memory) / 1024)) MB"
done
