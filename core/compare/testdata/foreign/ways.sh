#!/usr/bin/env bash
# Sends a CSV file through a program and back, as people do who do not think of it.
#
#	ways.sh WAY IN OUT
#
# In DAYS, MOMENTS, NUMBERS and FLAGS stand columns of these kinds, with commas between. make foreign
# calls it; .ci/run does not, as most of the programs are on no fresh machine (Debian: gnumeric
# r-base-core python3-pandas python3-openpyxl miller csvkit libtext-csv-perl php-cli ruby nodejs octave
# gretl pspp xlsx2csv sqlite3 and the two servers of make servers).
set -euo pipefail
way=$1 in=$(realpath "$2") out=$3
export LC_ALL=C.UTF-8 TZ=UTC
dir=$(mktemp -d)
trap 'rm -rf "$dir"' EXIT
python=/usr/bin/python3

pg() { PGOPTIONS="-c client_min_messages=error ${PGSET:--c DateStyle=ISO,DMY}" psql "$PALETWIN_TEST_POSTGRES" -q -v ON_ERROR_STOP=1 "$@"; }
maria() { mariadb $PALETWIN_TEST_MARIADB --local-infile=1 "$@" 2>/dev/null; }
# table TEXT NUMBER DAY MOMENT FLAG QUOTE: the columns of a typed table
table() {
	head -1 "$in" | tr -d '\r' | tr , '\n' | while read -r c; do
		k=$1
		case ,$NUMBERS, in *,"$c",*) k=$2 ;; esac
		case ,$DAYS, in *,"$c",*) k=$3 ;; esac
		case ,$MOMENTS, in *,"$c",*) k=$4 ;; esac
		case ,$FLAGS, in *,"$c",*) k=$5 ;; esac
		echo "$6$c$6 $k"
	done | paste -sd,
}
frame() {
	$python -W ignore -c "import pandas as pd, os, sys
i,o=sys.argv[1:]
days=[c for c in (os.environ['DAYS']+','+os.environ['MOMENTS']).split(',') if c]
$1" "$in" "$out"
}
script() { # a node program with rows, h (the heading), D, M, N and put(rows, separator)
	node -e 'const fs=require("fs"),t=fs.readFileSync(process.argv[1],"utf8"),rows=[];let r=[],c="",q=false;
for(let i=0;i<t.length;i++){const x=t[i];if(q){if(x=="\""){if(t[i+1]=="\""){c+=x;i++}else q=false}else c+=x}
else if(x=="\"")q=true;else if(x==","){r.push(c);c=""}else if(x=="\n"){r.push(c);rows.push(r);r=[];c=""}else if(x!="\r")c+=x}
const h=rows[0],[D,M,N]=["DAYS","MOMENTS","NUMBERS"].map(k=>process.env[k].split(","));
const put=(f,s)=>fs.writeFileSync(process.argv[2],rows.map((r,n)=>r.map((v,k)=>n&&v!==""?f(v,h[k]):v).map(v=>/[",;\n]/.test(v)?"\""+v.replaceAll("\"","\"\"")+"\"":v).join(s)).join("\n")+"\n");
'"$1" "$in" "$out"
}
rows() { # a python program with a function f(value, column)
	$python -c "import sys,csv,os
from datetime import datetime
D,M,N=(os.environ[k].split(',') for k in ('DAYS','MOMENTS','NUMBERS'))
$1
i=csv.reader(open(sys.argv[1],newline='',encoding='utf-8')); h=next(i)
w=csv.writer(open(sys.argv[2],'w',newline='',encoding='${2:-utf-8}',errors='replace'),'${3:-excel}'); w.writerow(h)
for r in i: w.writerow([f(v,c) for v,c in zip(r,h)])" "$in" "$out"
}
lines() { # what mariadb prints, as CSV
	$python -c 'import sys,csv
w=csv.writer(sys.stdout, lineterminator="\n")
for l in sys.stdin: w.writerow(l.rstrip("\n").split("\t"))' > "$out"
}
load="load data local infile '$in' into table t character set utf8mb4 fields terminated by ',' optionally enclosed by '\"' escaped by '' ignore 1 lines"
twice() { "$0" "$1" "$in" "$dir/1.csv" && "$0" "$2" "$dir/1.csv" "$out"; }

case $way in
sheet-csv) ssconvert -T Gnumeric_stf:stf_csv "$in" "$out" 2>/dev/null ;;
sheet-xlsx) ssconvert -T Gnumeric_Excel:xlsx2 "$in" "$out" 2>/dev/null ;;
sheet-ods) ssconvert -T Gnumeric_OpenCalc:odf "$in" "$out" 2>/dev/null ;;
sheet-text) ssconvert -T Gnumeric_stf:stf_assistant -O 'separator=; format=preserve quoting-mode=always' "$in" "$out" 2>/dev/null ;;
stat-r) Rscript -e 'a<-commandArgs(TRUE); write.csv(read.csv(a[1]), a[2])' "$in" "$out" ;;
stat-r-plain) Rscript -e 'a<-commandArgs(TRUE); write.csv(read.csv(a[1]), a[2], row.names=FALSE, na="")' "$in" "$out" ;;
stat-r-2) Rscript -e 'a<-commandArgs(TRUE); write.csv2(read.csv(a[1], check.names=FALSE), a[2], row.names=FALSE)' "$in" "$out" ;;
stat-r-days) Rscript -e 'a<-commandArgs(TRUE); d<-read.csv(a[1], check.names=FALSE, colClasses="character", na.strings=c("NA","")); s<-function(k) strsplit(Sys.getenv(k),",")[[1]]
for(c in s("DAYS")) d[[c]]<-format(as.Date(d[[c]], tryFormats=c("%Y-%m-%d","%d/%m/%Y","%d.%m.%Y")),"%d %b %Y"); for(c in s("NUMBERS")) d[[c]]<-signif(as.numeric(d[[c]]),5); write.csv(d,a[2],row.names=FALSE)' "$in" "$out" ;;
frame) frame "pd.read_csv(i).to_csv(o, index=False)" ;;
frame-index) frame "pd.read_csv(i).to_csv(o)" ;;
frame-days) frame "pd.read_csv(i, parse_dates=days).to_csv(o, index=False)" ;;
frame-fixed) frame "pd.read_csv(i, keep_default_na=False, parse_dates=days).to_csv(o, index=False, float_format='%.3f', date_format='%d.%m.%Y')" ;;
frame-words) frame "pd.read_csv(i).to_csv(o, index=False, na_rep='NaN', sep=';', decimal=',')" ;;
frame-xlsx) frame "d=pd.read_csv(i, parse_dates=days)
for c in days: d[c]=d[c].dt.tz_localize(None) if hasattr(d[c],'dt') else d[c]
d.to_excel(o, index=False)" ;;
frame-text) frame "pd.read_csv(i, dtype=str, keep_default_na=False).apply(lambda c: c.str.strip().str.upper()).to_csv(o, index=False)" ;;
frame-latin) frame "pd.read_csv(i, encoding='latin-1').to_csv(o, index=False)" ;;
tool-mlr) mlr --icsv --ocsv --ofmt %.6lf put 'for (k,v in $*) { if (is_float(v)) { $[k] = v * 1 } }' "$in" > "$out" ;;
tool-mlr-fixed) mlr --icsv --ocsv --quote-all put 'for (k,v in $*) { if (is_numeric(v)) { $[k] = fmtnum(v, "%.2lf") } }' "$in" > "$out" ;;
tool-in2csv) in2csv "$in" > "$out" ;;
tool-sort) csvsort -c 2 "$in" > "$out" ;;
tool-cut) csvcut -C 3 "$in" | csvformat -D ';' -U 1 > "$out" ;;
lite) sqlite3 -batch "$dir/x.db" "create table t ($(table text numeric text text text '"'))" ".mode csv" ".import --skip 1 '$in' t" ".headers on" ".once '$out'" "select * from t" ;;
lite-real) sqlite3 -batch "$dir/x.db" "create table t ($(table text real text text text '"'))" ".mode csv" ".import --skip 1 '$in' t" ".headers on" ".separator ;" ".once '$out'" "select * from t" ;;
post) pg -c "drop table if exists t; create table t ($(table text numeric date timestamp boolean '"'))" -c "\\copy t from '$in' csv header null ''" -c "\\copy t to '$out' csv header" ;;
post-eu) PGSET="-c DateStyle=German,DMY -c TimeZone=Europe/Berlin" pg -c "drop table if exists t; create table t ($(table text 'double precision' date timestamptz boolean '"'))" -c "\\copy t from '$in' csv header null ''" -c "\\copy t to '$out' csv header null 'NULL'" ;;
post-money) PGSET="-c DateStyle=SQL,MDY" pg -c "drop table if exists t; create table t ($(table 'char(40)' 'numeric(14,3)' date timestamp boolean '"'))" -c "set datestyle='ISO,DMY'" -c "\\copy t from '$in' csv header null ''" -c "set datestyle='SQL,MDY'" -c "\\copy t to '$out' csv header" ;;
maria) maria -e "drop table if exists t; create table t ($(table 'varchar(255)' 'double null' date datetime 'varchar(9)' '`')); set sql_mode=''; $load; select * from t" | lines ;;
maria-fixed) maria -e "set sql_mode=''; drop table if exists t; create table t ($(table 'varchar(20)' 'decimal(12,1)' date datetime 'varchar(9)' '`')) character set latin1; $load; select * from t" | lines ;;
script-php) php -r '$i=fopen($argv[1],"r"); $o=fopen($argv[2],"w"); $h=fgetcsv($i); fputcsv($o,$h); $d=array_filter(explode(",",getenv("DAYS").",".getenv("MOMENTS"))); $n=explode(",",getenv("NUMBERS"));
while($r=fgetcsv($i)){ foreach($h as $k=>$c){ if($r[$k]==="")continue; if(in_array($c,$d)&&strtotime($r[$k])) $r[$k]=date("d/m/Y H:i",strtotime($r[$k])); elseif(in_array($c,$n)&&is_numeric($r[$k])) $r[$k]=number_format((float)$r[$k],2); } fputcsv($o,$r);}' "$in" "$out" ;;
script-php-cast) php -r '$i=fopen($argv[1],"r"); $o=fopen($argv[2],"w"); fputcsv($o,fgetcsv($i)); while($r=fgetcsv($i)){ foreach($r as $k=>$v) if(is_numeric($v)) $r[$k]=$v+0; fputcsv($o,$r);}' "$in" "$out" ;;
script-js) script 'put((v,c)=>(D.includes(c)||M.includes(c))&&!isNaN(new Date(v))?new Date(v).toISOString():!isNaN(v)?String(Number(v)):v,",")' ;;
script-js-local) script 'put((v,c)=>{const d=new Date(v);return D.includes(c)&&!isNaN(d)?d.toLocaleDateString("en-US"):M.includes(c)&&!isNaN(d)?d.toLocaleString("en-US"):N.includes(c)&&!isNaN(v)?Number(v).toLocaleString("de-DE",{maximumFractionDigits:6}):v},";")' ;;
script-perl) perl -MText::CSV -e 'my ($i,$o)=@ARGV; my $c=Text::CSV->new({binary=>1}); my $p=Text::CSV->new({binary=>1,always_quote=>1,eol=>"\r\n"}); open my $f,"<:encoding(latin1)",$i; open my $g,">:utf8",$o; my $n=0;
while(my $r=$c->getline($f)){ if($n++){ for(@$r){ $_=$_+0 if /^-?[0-9]+(\.[0-9]+)?$/; s/^\s+|\s+$//g; s/  +/ /g } } $p->print($g,$r) }' "$in" "$out" ;;
script-ruby) ruby -rcsv -rdate -e 'File.write(ARGV[1],CSV.read(ARGV[0],headers:true,converters: :all).to_csv)' "$in" "$out" ;;
script-python) rows 'def f(v,c):
    try: return float(v)
    except ValueError: return {"true":True,"false":False}.get(v.lower(),v)' ascii ;;
script-python-days) rows 'def f(v,c):
    if c in D or c in M:
        for p in ("%Y-%m-%d","%d/%m/%Y","%d.%m.%Y","%Y-%m-%d %H:%M","%Y-%m-%dT%H:%M:%SZ"):
            try: return datetime.strptime(v,p).strftime("%b %d, %Y")
            except ValueError: pass
    return "£{:,.2f}".format(float(v)) if c in N and v else v' utf-8 excel-tab ;;
script-python-serial) rows 'def f(v,c):
    for p in ("%Y-%m-%d","%d/%m/%Y","%d.%m.%Y","%Y-%m-%d %H:%M","%Y-%m-%dT%H:%M:%SZ","%H:%M"):
        if c in D or c in M or ":" in v:
            try:
                d=datetime.strptime(v,p)-(datetime(1900,1,1) if p=="%H:%M" else datetime(1899,12,30))
                return repr(d.total_seconds()/86400).removesuffix(".0")
            except ValueError: pass
    return v' ;;
stat-octave) octave-cli --no-init-file -q --eval "f=fopen('$in'); g=fopen('$out','w'); fputs(g,fgets(f)); while ischar(l=fgetl(f)); p=regexp(l,'(\"([^\"]|\"\")*\"|[^,]*)(,|\$)','match'); s=''; for k=1:numel(p); x=regexprep(p{k},',\$',''); v=str2double(x); if !isnan(v) && isreal(v) && !isempty(x) && isempty(regexp(x,'[ij,]')); x=num2str(v); end; s=[s x ',']; end; fprintf(g,'%s\n',s(1:end-1)); end; fclose(g);" >/dev/null 2>&1; [ -s "$out" ] ;;
stat-gretl) cp "$in" "$dir/in.csv"; printf 'set verbose off\nopen "%s" --quiet\nstore "%s"\n' "$dir/in.csv" "$dir/o.csv" > "$dir/x.inp"; gretlcli -b "$dir/x.inp" >/dev/null 2>&1; cp "$dir/o.csv" "$out" ;;
stat-pspp) $python - "$in" "$dir/x.sps" "$dir/o.csv" <<'PY'
import sys,csv,os,re
i,s,o=sys.argv[1:]
r=list(csv.reader(open(i)));h=r[0]
D=os.environ["DAYS"].split(",");N=os.environ["NUMBERS"].split(",")
def kind(c,k):
    if c in N: return "F12.4"
    if c in D and all(re.fullmatch(r"\d{4}-\d\d-\d\d|",x[k]) for x in r[1:]): return "SDATE10"
    return "A%d"%max(1,max(len(x[k].encode()) for x in r[1:]))
v=" ".join("V%d %s"%(k,kind(c,k)) for k,c in enumerate(h))
open(s,"w").write("set locale='en_US.UTF-8'.\nGET DATA /TYPE=TXT /FILE='%s' /ARRANGEMENT=DELIMITED /DELCASE=LINE /FIRSTCASE=2 /DELIMITERS=',' /QUALIFIER='\"' /VARIABLES=%s.\nSAVE TRANSLATE /OUTFILE='%s' /TYPE=CSV /REPLACE /CELLS=VALUES.\n"%(i,v,o))
PY
	pspp "$dir/x.sps" >/dev/null 2>&1 || true; { head -1 "$in"; cat "$dir/o.csv"; } > "$out" ;;
shell-awk) awk -F, -v OFS=, 'NR>1{for(k=1;k<=NF;k++) if($k ~ /^-?[0-9]+(\.[0-9]+)?$/) $k=$k+0}1' "$in" > "$out" ;;
shell-ascii) iconv -f UTF-8 -t ASCII//TRANSLIT "$in" | sed '2,$ s/.*/\L&/' > "$out" ;;
shell-850) iconv -f CP850 -t UTF-8 "$in" > "$out" ;;
shell-escape) $python -c 'import sys
t=open(sys.argv[1],encoding="utf-8",newline="").read(); open(sys.argv[2],"w",newline="").write("".join(c if ord(c)<128 else "<U+%04X>"%ord(c) for c in t))' "$in" "$out" ;;
shell-cut) sed 's/  */ /g; s/ ,/,/g' "$in" | awk -F, -v OFS=, 'NR>1{for(k=1;k<=NF;k++) $k=substr($k,1,12)}1' > "$out" ;;
book-text) $python -c 'import sys,csv,openpyxl
w=openpyxl.Workbook(); s=w.active
for r in csv.reader(open(sys.argv[1],newline="")): s.append([ (float(v) if v.replace(".","",1).isdigit() else v) for v in r])
w.save(sys.argv[2])' "$in" "$dir/x.xlsx" && xlsx2csv "$dir/x.xlsx" "$out" ;;
chain-sheet-frame) twice sheet-csv frame ;;
chain-r-sheet) twice stat-r-plain sheet-csv ;;
chain-post-frame) twice post frame ;;
chain-js-sheet) twice script-js sheet-xlsx ;;
chain-awk-lite) twice shell-awk lite ;;
*) echo "no such way: $way" >&2; exit 2 ;;
esac
