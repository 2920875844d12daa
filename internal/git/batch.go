package git

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"

	"dorvik.dev/dorvik/internal/core/object"
)

// batch is a long-running `git cat-file --batch`. In a partial clone it fetches what is missing, which can take long.
// So cancelling a read ends the process; the next read starts another one.
type batch struct {
	repo *Objects

	mu   sync.Mutex
	in   io.WriteCloser
	out  *bufio.Reader
	said *bytes.Buffer // standard error of the process
	kill func()
	stop func()
}

// PartialError reports that a partial clone lacks a content and could not fetch it.
type PartialError struct {
	ID    object.ID
	Words string // git's message
}

func (e *PartialError) Error() string {
	return fmt.Sprintf("this clone is partial: contents of files are fetched when they are needed, and %s could not "+
		"be (%s). Nothing was changed. Connect to the remote, and try again", e.ID.Prefix(12), e.Words)
}

// pool is a few batches, so that several reads can run at once. It reuses the latest one, which has started and has a
// cache.
type pool struct {
	mu   sync.Mutex
	free []*batch
	all  []*batch
	one  *sync.Cond
}

// readers is the largest number of reading processes.
const readers = 2

func newPool(r *Objects) *pool {
	p := &pool{}
	p.one = sync.NewCond(&p.mu)
	for range readers {
		p.all = append(p.all, &batch{repo: r})
	}
	p.free = append(p.free, p.all...)
	return p
}

// with lends a batch to use. It waits until one is free, or returns the context's error.
func (p *pool) with(ctx context.Context, use func(b *batch)) error {
	defer context.AfterFunc(ctx, func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.one.Broadcast()
	})()
	p.mu.Lock()
	for len(p.free) == 0 && ctx.Err() == nil {
		p.one.Wait()
	}
	if err := ctx.Err(); err != nil {
		p.mu.Unlock()
		return err
	}
	b := p.free[len(p.free)-1]
	p.free = p.free[:len(p.free)-1]
	p.mu.Unlock()
	use(b)
	p.mu.Lock()
	p.free = append(p.free, b)
	p.mu.Unlock()
	p.one.Signal()
	return nil
}

func (p *pool) close() {
	for _, b := range p.all {
		b.close()
	}
}

// read returns an object. It restarts a process that ended.
func (b *batch) read(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	kind, data, err := b.ask(ctx, id)
	var partial *PartialError
	if err != nil && !errors.Is(err, object.ErrMissing) && !errors.As(err, &partial) && ctx.Err() == nil {
		b.end()
		kind, data, err = b.ask(ctx, id)
	}
	return kind, data, err
}

func (b *batch) ask(ctx context.Context, id object.ID) (object.Kind, []byte, error) {
	release, err := b.until(ctx)
	if err != nil {
		return 0, nil, err
	}
	defer release()
	if _, err := io.WriteString(b.in, id.String()+"\n"); err != nil {
		return 0, nil, fmt.Errorf("reading object %s: %w", id, err)
	}
	kind, data, err := b.answer(id)
	if err != nil && ctx.Err() != nil {
		b.end()
		return 0, nil, ctx.Err()
	}
	return kind, data, err
}

// until starts the process if needed. Until release is called, cancelling the context ends the process.
func (b *batch) until(ctx context.Context) (release func() bool, err error) {
	if err = ctx.Err(); err == nil && b.in == nil {
		err = b.start()
	}
	if err != nil {
		return nil, err
	}
	return context.AfterFunc(ctx, b.kill), nil
}

// readMany requests objects without waiting for each answer. It skips missing objects, and all further ones if the
// process fails.
func (b *batch) readMany(ctx context.Context, ids []object.ID, each func(id object.ID, kind object.Kind, data []byte)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	release, err := b.until(ctx)
	if err != nil {
		return
	}
	defer release()
	in := b.in
	var asked sync.WaitGroup
	asked.Go(func() {
		var all strings.Builder
		for _, id := range ids {
			all.WriteString(id.String() + "\n")
		}
		_, _ = io.WriteString(in, all.String()) // if writing fails, so does reading
	})
	for _, id := range ids {
		kind, data, err := b.answer(id)
		if errors.Is(err, object.ErrMissing) {
			continue
		}
		if err != nil {
			b.end()
			break
		}
		each(id, kind, data)
	}
	asked.Wait()
}

func (b *batch) answer(id object.ID) (object.Kind, []byte, error) {
	head, err := b.out.ReadString('\n')
	if err != nil {
		return 0, nil, b.ended(id, err)
	}
	f := strings.Fields(head)
	if len(f) == 2 && f[1] == "missing" {
		return 0, nil, fmt.Errorf("object %s: %w", id, object.ErrMissing)
	}
	if len(f) != 3 {
		return 0, nil, fmt.Errorf("reading object %s: git cat-file answered %q", id, head)
	}
	kind, err := object.ParseKind(f[1])
	if err != nil {
		return 0, nil, err
	}
	size, err := strconv.Atoi(f[2])
	if err != nil {
		return 0, nil, fmt.Errorf("reading object %s: %w", id, err)
	}
	data := make([]byte, size+1)
	if _, err := io.ReadFull(b.out, data); err != nil {
		return 0, nil, fmt.Errorf("reading object %s: %w", id, err)
	}
	return kind, data[:size:size], nil
}

// ended returns why the process ended during a read.
func (b *batch) ended(id object.ID, err error) error {
	b.end() // then standard error is complete
	words := strings.Join(strings.FieldsFunc(b.said.String(), func(c rune) bool { return c == '\n' }), "; ")
	if strings.Contains(words, "promisor") {
		return &PartialError{id, words}
	}
	return fmt.Errorf("reading object %s: git cat-file ended: %w (%s)", id, err, words)
}

func (b *batch) start() error {
	ctx, cancel := context.WithCancel(context.Background())
	cmd := command(ctx, b.repo.Dir, []string{"cat-file", "--batch"})
	b.said = &bytes.Buffer{}
	cmd.Stderr = b.said
	in, err := cmd.StdinPipe()
	if err == nil {
		var out io.ReadCloser
		if out, err = cmd.StdoutPipe(); err == nil {
			b.out = bufio.NewReaderSize(out, 1<<16)
			err = cmd.Start()
		}
	}
	if err != nil {
		cancel()
		return failure(context.Background(), call{doing: "reading objects", args: []string{"cat-file"}}, "", err)
	}
	b.in, b.kill = in, cancel
	b.stop = func() {
		in.Close()
		cancel()
		_ = cmd.Wait() // it was told to end; its exit code does not matter
	}
	return nil
}

func (b *batch) end() {
	if b.in != nil {
		b.stop()
		b.in = nil
	}
}

func (b *batch) close() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.end()
}
