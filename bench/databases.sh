#!/usr/bin/env bash
# What docs/performance.md says of databases, in turn in one run, with medians and ratios:
#
#	bench/databases.sh [RECORDS] [ROUNDS]
#
# take against each database's own client on the same order; and a whole apply of 10,000
# amends of three field sets against the client's read, twice, and the same statements
# by hand, in the same batches. It needs the servers: .ci/servers start DIR, . DIR/env
set -euo pipefail
records=${1:-1000000} rounds=${2:-5}
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
CGO_ENABLED=0 go build -o "$work/paletwin" ./cmd/paletwin
go run ./bench/gen "$work" "$records" register.csv
cd "$work"
maria() { mariadb $PALETWIN_TEST_MARIADB --default-character-set=utf8mb4 "$@"; }
pg() { psql "$PALETWIN_TEST_POSTGRES" -q -v ON_ERROR_STOP=1 "$@"; }
columns=$(head -1 register.csv)
typed=$(echo "$columns" | sed 's/,/ text, /g; s/$/ text/; s/^asset_no text/asset_no varchar(12) NOT NULL PRIMARY KEY/')
load() {
	pg -c "DROP TABLE IF EXISTS bench" -c "CREATE TABLE bench ($typed)" -c "\\copy bench FROM 'register.csv' CSV HEADER" -c "VACUUM ANALYZE bench"
	maria --local-infile -e "DROP TABLE IF EXISTS bench; CREATE TABLE bench ($typed) CHARACTER SET utf8mb4; LOAD DATA LOCAL INFILE 'register.csv' INTO TABLE bench CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' IGNORE 1 LINES"
	rm -f bench.db
	sqlite3 bench.db "CREATE TABLE bench ($typed)" ".import --csv --skip 1 register.csv bench"
}
names=$(echo "$columns" | sed 's/,/, /g')
url() {
	case $1 in
	postgresql) echo "$PALETWIN_TEST_POSTGRES_URL#bench" ;;
	mariadb) echo "$PALETWIN_TEST_MARIADB_URL#bench" ;;
	*) echo "sqlite:bench.db#bench" ;;
	esac
}
client() { # client ENGINE: reads everything into a file, in the order of the keys
	case $1 in
	postgresql) pg -c "COPY (SELECT $names FROM bench ORDER BY asset_no COLLATE \"C\") TO STDOUT" ;;
	mariadb) maria --quick --batch -e "SELECT $names FROM bench ORDER BY CONVERT(asset_no USING utf8mb4) COLLATE utf8mb4_bin" ;;
	*) sqlite3 -csv bench.db "SELECT $names FROM bench ORDER BY asset_no COLLATE BINARY" ;;
	esac >client.csv
}
hand() { # hand ENGINE FILE
	case $1 in
	postgresql) pg -f "$2" ;;
	mariadb) maria <"$2" ;;
	*) sqlite3 bench.db <"$2" ;;
	esac >/dev/null
}
# 10,000 amends: of every so manieth record, three sets of fields in turn.
awk -F, -v every=$((records / 10000)) -v OFS=, 'NR > 1 && NR % every == 0 {
	s = n++ % 3
	if (s == 0) $14 = "1234.56"; else if (s == 1) { $8 = "D77"; $9 = "U-7777" } else $15 = "changed"
} { print }' register.csv >edited.csv
statements() { # statements ENGINE FROM: by hand, from one file to another
	paste -d'|' "$2" "$3" | awk -F'|' -v engine="$1" '
	function flush(   s, k, rows) {
		if (!m) return
		print "BEGIN;"
		for (s = 0; s < 3; s++) {
			if (count[s] == 0) continue
			if (engine == "sqlite") { printf "%s", list[s] }
			else if (engine == "postgresql") print "UPDATE bench t SET " set[s] " FROM (VALUES " list[s] ") r(k" (s == 1 ? ", a, b" : ", a") ") WHERE t.asset_no = r.k;"
			else print "UPDATE bench t JOIN (" list[s] ") r ON t.asset_no = r.k SET " set[s] ";"
			count[s] = 0; list[s] = ""
		}
		print "COMMIT;"
		m = 0
	}
	BEGIN {
		p = engine == "mariadb" ? "t." : ""
		set[0] = p "service_fee = r.a"; set[1] = p "depot = r.a, " p "keeper = r.b"; set[2] = p "status = r.a"
	}
	$1 != $2 {
		split($1, was, ","); split($2, is, ",")
		s = was[14] != is[14] ? 0 : was[8] != is[8] ? 1 : 2
		a = s == 0 ? is[14] : s == 1 ? is[8] : is[15]; b = is[9]
		q = "\047"
		if (engine == "sqlite") list[s] = list[s] "UPDATE bench SET " (s == 0 ? "service_fee = " q a q : s == 1 ? "depot = " q a q ", keeper = " q b q : "status = " q a q) " WHERE asset_no = " q is[1] q ";\n"
		else if (engine == "postgresql") list[s] = list[s] (count[s] ? "," : "") "(" q is[1] q "," q a q (s == 1 ? "," q b q : "") ")"
		else list[s] = list[s] (count[s] ? " UNION ALL " : "") "SELECT CONVERT(" q is[1] q " USING utf8mb4) COLLATE utf8mb4_general_ci AS k," q a q " AS a" (s == 1 ? "," q b q " AS b" : "")
		count[s]++
		if (++m == 500) flush()
	}
	END { flush() }'
}
timed() { # timed NAME COMMAND…: adds the milliseconds to a file
	local name=$1 from=$EPOCHREALTIME
	shift
	"$@"
	echo $(((${EPOCHREALTIME/./} - ${from/./}) / 1000)) >>"$name"
}
median() { sort -n "$1" | awk '{ v[NR] = $1 } END { print v[int((NR + 1) / 2)] }'; }
ratio() { awk -v a="$1" -v b="$2" 'BEGIN { printf "%.2f", a / b }'; }
take() { rm -f taken.csv; ./paletwin --quiet take "$(url "$1")" -o taken.csv >/dev/null; }
load
./paletwin --quiet compare register.csv edited.csv --key asset_no --title bench --with wear=off --with slips=off >/dev/null
./paletwin --quiet approve 1 --all >/dev/null
mv dossiers fresh
carry() { # carry ENGINE FLAG…: a dossier that has no runs yet
	./paletwin --quiet apply 1 --to "$(url "$1")" --yes "${@:2}" >/dev/null
}
anew() { rm -rf dossiers && cp -al fresh dossiers; }
for e in postgresql mariadb sqlite; do
	statements $e register.csv edited.csv >$e.sql
	statements $e edited.csv register.csv >$e.back.sql
	for _ in $(seq "$rounds"); do
		timed $e.take take $e
		timed $e.client client $e
		timed $e.hand hand $e $e.sql
		hand $e $e.back.sql
		anew
		timed $e.apply carry $e
		hand $e $e.back.sql
	done
	t=$(median $e.take) c=$(median $e.client) h=$(median $e.hand) a=$(median $e.apply)
	anew
	timed $e.touched carry $e --with touched
	hand $e $e.back.sql
	anew
	./paletwin --quiet apply 1 --to "$(url $e)" --yes >/dev/null &
	memory=0 # what is the program's own, without the pages of files
	while own=$(awk '/^RssAnon/ { print $2 }' "/proc/$!/status" 2>/dev/null) && [ -n "$own" ]; do
		[ "$own" -gt "$memory" ] && memory=$own
		sleep 0.02
	done
	wait $! || true
	hand $e $e.back.sql
	echo "$e: with --with touched $(median $e.touched) ms; memory of an apply $((memory / 1024)) MiB"
	echo "$e: take $t ms, its client $c ms, ratio $(ratio "$t" "$c"); apply $a ms, client twice and by hand ($h ms) $((2 * c + h)) ms, ratio $(ratio "$a" $((2 * c + h)))"
done
