# make         the program, static, in build/
# make demo    build it, and run the full example in build/canal
# make examples   three small examples with awkward files, loaded in build/examples
# make test    all tests
# make race    all tests under the race detector (wants a C compiler)
# make hunt    the long hunts: fuzzing, random models by the hundred, many kills
# make bench   benchmarks of the parts
# make reference   the reference job beside hand-written SQL: agreement and times (wants the sqlite3 shell)

GO ?= go
VERSION_FLAGS = -trimpath -ldflags "-s -w"
# so many random cases has each hunt: some hours of them; HUNT=2000 is for a week-end
HUNT ?= 100
TRINO ?= 30
TRINO_AT = $${XDG_CACHE_HOME:-$$HOME/.cache}/ironmonger-tests/trino-476
# the packages whose tests take longest begin first
LONGEST = ./internal/load ./cmd/ironmonger ./internal/warehouse ./internal/expr
FUZZ ?= 60s
# whatever is new is kept as it is: making it small takes minutes where the input is a file
FUZZING = -fuzztime $(FUZZ) -fuzzminimizetime 10x

.PHONY: examples all demo test race hunt bench reference clean

all:
	CGO_ENABLED=0 $(GO) build $(VERSION_FLAGS) -o build/ironmonger ./cmd/ironmonger

demo: all
	rm -rf build/canal
	build/ironmonger demo build/canal
	build/ironmonger load --model build/canal/complaints.yaml
	tools/play-quarter build/ironmonger build/canal/quarter

test:
	tools/need-servers
	tools/need-trino $(TRINO_AT) >/dev/null 2>&1 &
	folder=$$(tools/make-temporary) && trap 'rm -rf "$$folder"' EXIT && \
	  TMPDIR=$$folder CGO_ENABLED=0 $(GO) test -count=1 -timeout 40m $(LONGEST) ./...

race:
	CGO_ENABLED=1 $(GO) test -race -count=1 ./...

EXAMPLES = library orchard clinic
examples: all
	for name in $(EXAMPLES); do \
	  rm -rf build/examples/$$name && mkdir -p build/examples && cp -r examples/$$name build/examples/ || exit 1; \
	  build/ironmonger load --model build/examples/$$name/ironmonger.yaml || exit 1; \
	  build/ironmonger prove --against-sources --model build/examples/$$name/ironmonger.yaml || exit 1; \
	done
	$(GO) test -count=1 -run TestExamples ./cmd/ironmonger

hunt:
	IRONMONGER_HUNT=$(HUNT) $(GO) test -count=1 -timeout 600m -run "TestOracle|TestGone|TestMoving|TestAliasesPure|TestArchived|TestRepeated|TestWithdrawn|TestMissing|TestCompleted|TestSince|TestHeaders|TestDelivered|TestGrowing|TestGrouped|TestOrder|TestKeptRows|TestLeftOut|TestUnpivot|TestAggregate|TestRandomLists|TestCut|TestSpans|TestWeightsAddUp|TestPeriods|TestPivot|TestWindow|TestBeside|TestInside|TestArrived|TestMembers(Inside|Arrived|Union)" ./internal/load
	IRONMONGER_HUNT=$(HUNT) $(GO) test -count=1 -timeout 60m -run TestOddDrafts ./internal/draft
	IRONMONGER_KIND=trino IRONMONGER_HUNT=$(TRINO) $(GO) test -count=1 -timeout 600m -run 'TestOracle$$|TestTrinoInside|TestTrinoArrived|TestTrinoMembersInside' ./internal/load
	IRONMONGER_HUNT=$(HUNT) $(GO) test -count=1 -timeout 60m -run TestSQL ./internal/expr
	IRONMONGER_HUNT=20 $(GO) test -count=1 -timeout 60m -run 'TestDemo|TestKilled' ./internal/warehouse
	IRONMONGER_HUNT=10 $(GO) test -tags hunt -count=1 -timeout 60m -run TestWorkerDies ./internal/warehouse
	IRONMONGER_OPENING=spilled $(GO) test -count=1 -timeout 60m ./internal/load
	IRONMONGER_OPENING=by_keys $(GO) test -count=1 -timeout 60m ./internal/load
	IRONMONGER_EXECUTE=in_warehouse $(GO) test -count=1 -timeout 60m ./internal/load ./internal/prove
	IRONMONGER_KILLS=200 $(GO) test -count=1 -timeout 60m -run TestKill ./cmd/ironmonger
	IRONMONGER_NIGHTS=365 $(GO) test -count=1 -timeout 120m -run TestYear ./cmd/ironmonger
	$(GO) test -run xxx -fuzz FuzzCompile $(FUZZING) ./internal/expr
	$(GO) test -run xxx -fuzz FuzzPieces $(FUZZING) ./internal/source
	$(GO) test -run xxx -fuzz FuzzLines $(FUZZING) ./internal/source
	$(GO) test -run xxx -fuzz FuzzDocument $(FUZZING) ./internal/source
	$(GO) test -run xxx -fuzz FuzzXML $(FUZZING) ./internal/source
	$(GO) test -run xxx -fuzz FuzzFixed $(FUZZING) ./internal/source
	$(GO) test -run xxx -fuzz FuzzOpen $(FUZZING) ./internal/workbook
	$(GO) test -run xxx -fuzz FuzzLayout $(FUZZING) ./internal/parse
	$(GO) test -run xxx -fuzz FuzzPattern $(FUZZING) ./internal/parse
	$(GO) test -run xxx -fuzz FuzzForm $(FUZZING) ./internal/survey
	$(GO) test -run xxx -fuzz FuzzParquet $(FUZZING) ./internal/source
	$(GO) test -run xxx -fuzz FuzzParse $(FUZZING) ./internal/star
	$(GO) test -run xxx -fuzz FuzzSplitQuery $(FUZZING) ./internal/star

bench:
	$(GO) test -run xxx -bench . -benchtime 1s ./...

ROWS ?= 1000000
reference: all
	bench/reference/compare $(ROWS)

clean:
	rm -rf build
