# What is done often. The program itself needs only: go build ./cmd/paletwin
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: build dist test lint bench demo shots fuzz corpus foreign slips mutants night servers stop-servers shards stop-shards galera stop-galera

# Without debugging tables, and of the plotting library only the forms of pictures
# that are used.
RELEASE = -trimpath -buildvcs=auto -tags minimal -ldflags "-s -w"

build:
	CGO_ENABLED=0 go build $(RELEASE) -o paletwin ./cmd/paletwin

# Archives for all systems, with manual pages, completions and licences, in dist/.
dist:
	go run ./release

test:
	go test ./...

lint:
	test -z "$$(gofmt -l .)"
	go vet ./...
	go run $(STATICCHECK) ./...

# A time that ends while an input is being made smaller is an error to go test,
# and no finding: what fails is run again, with what was found first of all.
FUZZ = f() { go test ./core/$$1 -run '^$$' -fuzz $$2 -fuzztime $$3 -fuzzminimizetime 1s; }; fuzz() { f $$@ || f $$@; }; fuzz
fuzz:
	$(FUZZ) table/csv FuzzAgainstEncodingCSV 20s
	$(FUZZ) table/csv FuzzOpen 10s
	$(FUZZ) changeset FuzzParse 10s
	$(FUZZ) changeset FuzzLedger 10s
	$(FUZZ) expr FuzzCompile 8s
	$(FUZZ) yamltext FuzzYAML 8s
	$(FUZZ) layout FuzzParse 8s
	$(FUZZ) table/xlsx FuzzOpen 8s
	$(FUZZ) table/xlsx FuzzEdit 10s
	$(FUZZ) table/refs FuzzFormula 8s
	$(FUZZ) table/ods FuzzOpen 8s
	$(FUZZ) table/ods FuzzEdit 8s
	$(FUZZ) table/jsonl FuzzOpen 8s
	$(FUZZ) ../internal/desk FuzzDossier 8s
	$(FUZZ) ../internal/run FuzzJournal 8s
	$(FUZZ) ../internal/standin FuzzURL 10s
	$(FUZZ) ../internal/standin FuzzBatch 10s

# Everything that tests could try, and not only a part of it: hours.
night:
	PALETWIN_TESTS=all go test -timeout 4h ./...
	$(MAKE) corpus slips mutants
	for i in 1 2 3 4 5; do $(MAKE) fuzz; done

# What LibreOffice does to files and how that is read: 56 cases, with a table.
# SEED=n repeats one.
corpus:
	PALETWIN_TEST_TOOLS=required PALETWIN_CORPUS=full PALETWIN_SEED=$(SEED) go test ./core/compare -run 'TestCorpus|TestForeign' -count 1 -v | grep -v "^=== "

# What some fifty ways through other programs do to files is made anew: needs the programs
# that core/compare/testdata/foreign/ways.sh names, and make servers.
foreign:
	. servers/env && PALETWIN_FOREIGN=make PALETWIN_CORPUS=full go test ./core/compare -run TestForeign -count 1 -v | grep -v "^=== "

# Which slips are found, and how often there is an alarm without one: a table.
slips:
	PALETWIN_SLIPS=300 PALETWIN_SEED=$(SEED) go test ./core/slip -run 'TestSlipsAreFound|TestNoSlips' -count 1 -v | grep -v "^=== "

# Each rule of mutants/list.txt is broken, and the tests of a package must notice.
mutants:
	go run ./mutants

# PostgreSQL and MariaDB for the tests, on the loopback: then . servers/env
servers:
	.ci/servers start servers

stop-servers:
	.ci/servers stop servers && rm -rf servers

# Three PostgreSQL servers and a coordinator; a cluster of three MariaDB nodes that all take writes. make servers installs what both need.
shards:
	.ci/shards start shards

stop-shards:
	.ci/shards stop shards && rm -rf shards

galera:
	.ci/galera start galera

stop-galera:
	.ci/galera stop galera && rm -rf galera

bench:
	go run ./bench

demo:
	go run ./cmd/paletwin demo

# TERMSHOT names a program that takes the picture of a terminal; see the script.
shots:
	docs/screenshots/shots.sh
