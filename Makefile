# Two commands do everything: make demo, and make test. Both install what is
# missing first.

GO ?= go

.PHONY: build demo test race soak lint bench need docs

build: bin/dorvik

bin/dorvik: $(shell find cmd internal -name '*.go' -not -name '*_test.go' -o -name '*.txtar') go.mod go.sum
	@scripts/need go git
	$(GO) build -o $@ ./cmd/dorvik

## demo: made-up repositories in which a push is refused, in the full screen
demo: build
	@bin/dorvik demo

## test: all tests, those in a real terminal too
test:
	@scripts/need go git tmux
	$(GO) test -timeout 10m ./...

## race: recovery and screen under the race detector, but for what only starts other processes
race:
	@scripts/need go git
	$(GO) test -race -timeout 15m -skip 'TestJoinsAgree|TestEveryFault|TestADying|TestAFullDisk|TestWhatSomebody|TestNothingIsLost' ./internal/recovery ./internal/tui

## soak: 100,000 random histories against git, and against the law that nothing is lost, and every
## fault in a join of 1,000 files, for an hour or so; SEED=7 HISTORIES=20000 FILES=200
soak:
	DORVIK_SEED=$(or $(SEED),1) DORVIK_HISTORIES=$(or $(HISTORIES),100000) DORVIK_FILES=$(or $(FILES),1000) \
	  $(GO) test -count=1 -timeout 5h -v -run 'TestJoinsAgreeWithGit|TestNothingIsLostUntold|TestEveryFault|TestADying' ./internal/recovery

## lint: format, vet, static checks
lint:
	@scripts/need go
	@bad=$$(gofmt -l cmd internal e2e); [ -z "$$bad" ] || { echo "gofmt would change: $$bad"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

## docs: the table of keys in the README, and the manual page, from the program itself
docs:
	$(GO) run ./scripts/docs

bench:
	$(GO) test -run '^$$' -bench . ./...
