# What is done often. The program itself needs only: go build ./cmd/paletwin
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

.PHONY: build test lint bench demo shots fuzz corpus slips servers stop-servers

build:
	CGO_ENABLED=0 go build -trimpath -o paletwin ./cmd/paletwin

test:
	go test ./...

lint:
	test -z "$$(gofmt -l .)"
	go vet ./...
	go run $(STATICCHECK) ./...

fuzz:
	go test ./core/table/csv -run '^$$' -fuzz FuzzAgainstEncodingCSV -fuzztime 20s
	go test ./core/table/csv -run '^$$' -fuzz FuzzOpen -fuzztime 10s
	go test ./core/changeset -run '^$$' -fuzz FuzzParse -fuzztime 10s
	go test ./core/changeset -run '^$$' -fuzz FuzzLedger -fuzztime 10s
	go test ./core/expr -run '^$$' -fuzz FuzzCompile -fuzztime 8s
	go test ./core/layout -run '^$$' -fuzz FuzzParse -fuzztime 8s
	for p in xlsx ods jsonl; do go test ./core/table/$$p -run '^$$' -fuzz FuzzOpen -fuzztime 8s || exit 1; done

# What LibreOffice does to files and how that is read: 56 cases, with a table.
# SEED=n repeats one.
corpus:
	PALETWIN_TEST_TOOLS=required PALETWIN_CORPUS=full PALETWIN_SEED=$(SEED) go test ./core/compare -run TestCorpus -count 1 -v | grep -v "^=== "

# Which slips are found, and how often there is an alarm without one: a table.
slips:
	PALETWIN_SLIPS=300 PALETWIN_SEED=$(SEED) go test ./core/slip -run 'TestSlipsAreFound|TestNoSlips' -count 1 -v | grep -v "^=== "

# PostgreSQL and MariaDB for the tests, on the loopback: then . servers/env
servers:
	.ci/servers start servers

stop-servers:
	.ci/servers stop servers && rm -rf servers

bench:
	go run ./bench

demo:
	go run ./cmd/paletwin demo

# TERMSHOT names a program that takes the picture of a terminal; see the script.
shots:
	docs/screenshots/shots.sh
