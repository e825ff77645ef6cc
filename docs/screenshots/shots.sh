#!/usr/bin/env bash
# Takes the pictures of this folder anew from the demo's data; needs chromium,
# soffice and pdftoppm. TERMSHOT is a
# program "termshot OUT.png [-w SECONDS] -- COMMAND" that takes the picture of
# a terminal of about 1280x800.
set -euo pipefail
out=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
(cd "$out/../.." && CGO_ENABLED=0 go build -o "$work/bin/paletwin" ./cmd/paletwin)
export PATH=$work/bin:$PATH
cd "$work"
"$TERMSHOT" "$out/demo.png" -w 3 -- paletwin demo demo
cd demo
"$TERMSHOT" "$out/history.png" -- sh -c 'paletwin history; echo; paletwin history 0001; echo; paletwin history --record 00244'
"$TERMSHOT" "$out/layout.png" -- paletwin layout test aids autumn-round.csv
rm -rf dossiers && cp aids.csv register.csv
"$TERMSHOT" "$out/compare.png" -- paletwin compare aids.csv autumn-round.csv --title 'Autumn round' --quiet
"$TERMSHOT" "$out/wear.png" -- paletwin show 0001 --wear --limit 30
"$TERMSHOT" "$out/show.png" -- sh -c 'paletwin show 0001 --limit 8 -q; echo; paletwin show 0001 --record 00410 -q'
"$TERMSHOT" "$out/guide.png" -k "Enter r Enter" -w 2 -- sh -c 'paletwin approve 0001 --finding still-referred -q >/dev/null; paletwin reject 0001 --finding blank -q >/dev/null; exec paletwin guide 0001'
"$TERMSHOT" "$out/review.png" -k "f" -w 3 -- sh -c 'sleep 1; stty rows 41 cols 130; exec paletwin review 0001'
paletwin review page 0001 -o page.html -q >/dev/null
chromium --headless --no-sandbox --disable-gpu --window-size=1280,800 --screenshot="$out/page.png" "file://$PWD/page.html" 2>/dev/null
paletwin review sheet 0001 -o sheet.xlsx -q >/dev/null
soffice --headless --convert-to pdf sheet.xlsx >/dev/null 2>&1
pdftoppm -f 2 -l 2 -r 130 -x 60 -y 60 -W 1300 -H 700 -png sheet.pdf sheet && mv sheet-*.png "$out/sheet.png"
paletwin show 0001 --with plot=service_fee -o "$out/plot.png" -q >/dev/null
for slip in blank fill-overrun factor near-miss; do paletwin reject 0001 --finding $slip >/dev/null; done
paletwin approve 0001 --all --held >/dev/null
sed -i 's/^\(00244.*\),D03,/\1,D01,/' register.csv
"$TERMSHOT" "$out/apply.png" -- paletwin apply 0001 --to register.csv --yes

cp -r "$out/../../internal/demo/data" "$work/handoff" && cd "$work/handoff"
paletwin compare aids.csv autumn-round.csv --title 'Autumn round' -q >/dev/null
for slip in blank fill-overrun factor near-miss; do paletwin reject 0001 --finding $slip -q >/dev/null; done
paletwin approve 0001 --all --held -q >/dev/null
"$TERMSHOT" "$out/handoff.png" -- paletwin handoff 0001 --current register.csv -o to-load
{
	echo aid_no,result,message
	sed -s 1d to-load/forward/*.csv | tr -d '\r' | cut -d, -f1 | grep -E '^[0-9]{5}$' | sed -E 's/^(00248|00254)$/\1,error,the depot is closed/; t; s/^01202$/&,error,the serial number is taken/; t; s/$/,ok,/'
} >import-result.csv
"$TERMSHOT" "$out/collect.png" -- paletwin handoff collect 0001 import-result.csv

cd "$work" && paletwin demo database db >/dev/null && cd db
paletwin derive october.csv --record-set aids --where 'zone == "roads"' --set 'keeper = "U-1012"' --title "New keeper of the roads" -q >/dev/null
paletwin derive october.csv --record-set aids --delete --record 00102 --title "Struck off" -q >/dev/null
for n in 0004 0005; do paletwin approve $n --all --held -q >/dev/null; done
sqlite3 register.db "UPDATE aids SET keeper = 'U-1004' WHERE aid_no IN ('00107', '00121')"
"$TERMSHOT" "$out/database.png" -w 3 -- sh -c 'paletwin take sqlite:register.db#aids -o november.csv; echo; paletwin apply 0004 --to sqlite:register.db#aids --yes; echo; paletwin apply 0005 --to sqlite:register.db#aids --rehearse; paletwin apply 0005 --to sqlite:register.db#aids --with cascade --yes -q'

cp -r "$out/../../internal/demo/data" "$work/fresh" && cd "$work/fresh"
touch -d '9 days ago' aids.csv
paletwin compare aids.csv autumn-round.csv --title 'Autumn round' --with slips=off -q >/dev/null
paletwin approve 0001 --all -q >/dev/null
sed -i 's/^\(00244.*\),D03,/\1,D05,/; /^00410,/d; s/^\(00248.*\),D03,/\1,D06,/' register.csv
"$TERMSHOT" "$out/catch-up.png" -w 4 -- sh -c 'paletwin compare register.csv --into 0001 -q >/dev/null; paletwin show 0001 --decision hold; echo; paletwin show 0001 --findings'

cp -r "$out/../../internal/demo/data" "$work/copies" && cd "$work/copies"
mv autumn-round.csv mairead.csv
paletwin derive aids.csv --where 'aid_no in ["00107", "00235", "00244", "00251"]' --set 'depot = "D06"' --set 'remarks = "moved to the new depot"' -o tomas.csv -q >/dev/null
"$TERMSHOT" "$out/copies.png" -w 4 -- sh -c 'paletwin compare aids.csv mairead.csv tomas.csv --with slips=off --title "Autumn round" -q | head -11; echo; paletwin show 0001 --of tomas.csv -q; echo; paletwin approve 0001 --finding copies-disagree --of tomas.csv -q'

cp -r "$out/../../internal/demo/data" "$work/round" && cd "$work/round"
sets='--snapshot visits=visits.csv --snapshot aids=aids.csv --snapshot depots=depots.csv'
paletwin layout draft --joined round $sets -q >/dev/null
paletwin lend --joined round $sets -o round.xlsx -q >/dev/null
soffice --headless --convert-to csv round.xlsx >/dev/null 2>&1
sed -i 's/020 7946 0117/020 7946 0200/; 0,/020 7946 0131/s//020 7946 0200/; 0,/,D06,/s//,D07,/; $a 01240,2027-03-04,crew A,2,,,Skerry New,buoy,inner,NOV-12,57.50000,-2.50000,,,D01,U-1009,,,2026-11-01,,,,,false,in_service,,,,,Saltreach depot,020 7946 0110' round.csv
"$TERMSHOT" "$out/joined.png" -w 3 -- sh -c "paletwin compare --joined round $sets round.csv --title 'Autumn round' -q; echo; paletwin show 0001 --act add"

mkdir -p "$work/served/register" && cd "$work/served"
cp -r "$out"/../../internal/demo/data/{layouts,aids.csv,depots.csv,staff.csv,visits.csv} register
cat >ask.sh <<'END'
url=http://127.0.0.1:8099
amend() { curl -s -o /dev/null -X PATCH -H 'Content-Type: application/json' -H "If-Match: ${3:-*}" -d "$2" "$url/$1"; }
until curl -s -o /dev/null $url/; do sleep 0.1; done
curl -s -o /dev/null "$url/aids?\$filter=zone%20eq%20'outer'&\$select=aid_no,service_fee"
tag=$(curl -s -o /dev/null -D - "$url/aids('00107')" | tr -d '\r' | sed -n 's/^ETag: //p')
amend "aids('00107')" '{"service_fee":262.39}' "$tag"
for no in 00109 00115 00124 00130; do amend "aids('$no')" '{"keeper":"U-1012"}'; done
amend "aids('00102')" '{"depot":"D99"}'
curl -s -o /dev/null -X DELETE "$url/depots('D02')"
amend "depots('D03')" '{"phone":"020 7946 0125"}'
END
"$TERMSHOT" "$out/standin.png" -w 4 -- sh -c 'sh ask.sh & exec paletwin standin register --with memory --with mood=busy,method=PATCH,every=4 --with mood=colleague,key=00107 --with mood=cut-after,set=depots,method=PATCH'
