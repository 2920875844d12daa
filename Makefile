# Two commands do everything: make demo, and make test. Both install what is missing, and say
# what. All others install nothing.

GO ?= go

.PHONY: help build demo test tools quick race soak fuzz cover lint bench docs house quality

## help: this list
help:
	@sed -n 's/^## //p' Makefile | sed 's/^/make /'

## build: bin/dorvik, which needs no library of the system: it starts sooner, too
build: bin/dorvik bin/dorvik-host

source = $(shell find cmd internal -path '*/testdata' -prune -o \( -name '*.go' -not -name '*_test.go' -o -name '*.txtar' -o -name '*.zst' -o -name '*.zip' -o -path 'internal/host/*' \) -print) go.mod go.sum

bin/%: $(source)
	@scripts/need --look go git
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags="-s -w" -o $@ ./cmd/$*

## demo: made-up repositories in which a push is refused, in the full screen; SYSTEM=hg makes them Mercurial's, svn Subversion's
demo:
	@scripts/need go git $(filter hg svn,$(SYSTEM))
	@$(MAKE) --no-print-directory build
	@bin/dorvik demo $(if $(SYSTEM),--system $(SYSTEM))

## test: all tests, those in a real terminal too
# The longest packages come first, so that no processor waits for them at the end; and one more than there are processors
# runs, because scenarios in a terminal mostly wait. make lint vets.
test:
	@scripts/need go git hg svn tmux pdftotext rsvg-convert
	TMPDIR=$$(scripts/temp) $(GO) test -p $$(($$(getconf _NPROCESSORS_ONLN) + 1)) -vet=off -ldflags=-w -timeout 20m ./internal/recovery ./e2e ./internal/hgapply ./internal/hg ./internal/svnapply ./internal/tui ./internal/cli ./...

## tools: compilers, test runners and an ssh server for tests, which pass over what is missing. The system may start the server
tools:
	@scripts/need go gcc make python3 node rustc javac pytest cmake ctest tsc eslint gradle mvn maven-plugins sshd git-lfs chromedriver

## quick: the computation, the tables, the stages in memory; less than a minute. It says what is left out
quick:
	@scripts/need --look go git
	TMPDIR=$$(scripts/temp) $(GO) test -short ./internal ./internal/core/... ./internal/words ./internal/plan ./internal/ledger \
	  ./internal/vcs ./internal/memory ./internal/beneath ./internal/visible ./internal/tui/term ./internal/tui/keys ./scripts/...
	@echo "Left out: what starts git, draws screens or runs the program in a terminal; make test runs it."

## race: all packages under the race detector, but for what only starts other processes
race:
	@scripts/need --look go git
	TMPDIR=$$(scripts/temp) $(GO) test -race -timeout 30m -skip 'TestJoinsAgree|TestEveryFault|TestEveryOperation|TestAFullDisk|TestWhatSomebody|TestNothingIsLost' ./internal/...

## fuzz: each fuzz target for a while; FUZZTIME=20s
fuzz:
	@scripts/need --look go git
	@scripts/fuzz $(or $(FUZZTIME),20s)

## cover: what of each package its own tests reach
cover:
	@scripts/need --look go git
	$(GO) test -short -cover ./internal/...

## soak: what takes hours: 100,000 random histories against git, 3,000 against hg, and against the law that nothing is lost, 5,000 half-done states, every fault in a join of 1,000 files, 200 pushes that others come before, every operation on a file (about 2,700 with git, 1,500 with hg, 4,000 with svn), the race detector, and 20 s of each fuzz target; SEED=7 HISTORIES=20000 FILES=200 STATES=500
soak:
	TMPDIR=$$(scripts/temp) DORVIK_SEED=$(or $(SEED),1) DORVIK_HISTORIES=$(or $(HISTORIES),100000) DORVIK_FILES=$(or $(FILES),1000) \
	  $(GO) test -count=1 -timeout 5h -v -run 'TestJoinsAgreeWithGit|TestNothingIsLostUntold|TestEveryFault|TestEveryOperation|TestTakeOver|TestCarriedWorkIsConserved|TestAccountOfMerges|TestAStartThatFails|TestWhatAChangeMakes|TestAFullDisk|TestABranchThatStaysBusy' ./internal/recovery
	TMPDIR=$$(scripts/temp) DORVIK_SEED=$(or $(SEED),1) DORVIK_STATES=$(or $(STATES),5000) \
	  $(GO) test -count=1 -timeout 2h -run TestHalfDoneStates ./internal/recovery
	TMPDIR=$$(scripts/temp) DORVIK_SEED=$(or $(SEED),1) DORVIK_HG_HISTORIES=3000 DORVIK_FILES=1 DORVIK_KILLS=60 \
	  $(GO) test -count=1 -timeout 4h -v -run 'WithHg|HalfDone|Histedit|WorkThatDoes|KilledAtAny|JoinsAreMade' ./internal/recovery ./internal/hgapply
	TMPDIR=$$(scripts/temp) DORVIK_HISTORIES=200 DORVIK_SVN_COPIES=2000 DORVIK_FILES=1 \
	  $(GO) test -count=1 -timeout 4h -v -run 'AsSvnHasThem|AgreeWithSvn|KilledAtAny' ./internal/svn ./internal/svnapply
	$(MAKE) --no-print-directory race
	$(MAKE) --no-print-directory fuzz

## lint: format, vet, static checks
lint:
	@scripts/need --look go
	@bad=$$(gofmt -l cmd internal e2e scripts); [ -z "$$bad" ] || { echo "gofmt would change: $$bad"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

## house: what tends to grow, counted from the code; no more of it than is known
house:
	@scripts/need --look go
	$(GO) run ./scripts/house -none

## quality: how often what is suggested is right, wrong, or among the first three, and how many misfits are found; fails beyond the goals
quality:
	@scripts/need --look go
	$(GO) test -count=1 -v -run TestCorpus ./internal/core/settle ./internal/core/misfit | grep -E ' of [0-9]+ |^(ok|FAIL|---)'

## docs: the tables of keys and settings in the README, and the manual page, from the program itself
docs:
	$(GO) run ./scripts/docs

## bench: speed and memory, most as ratios to git's in one run, in a table with what was asked; FIXTURES=folder keeps what is measured in
bench:
	@scripts/need --look go git
	DORVIK_FIXTURES=$(FIXTURES) $(GO) run ./scripts/bench -draw docs/growth.svg
