package hg

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Error is a failed hg command.
type Error struct {
	Doing string   // such as "reading the history"
	Said  []string // the lines of standard error
	Exit  int      // its exit code
}

func (e *Error) Error() string {
	what := strings.TrimPrefix(strings.Join(e.Said, "; "), "abort: ")
	if what == "" {
		what = fmt.Sprintf("hg ended with code %d and said nothing", e.Exit)
	}
	return e.Doing + ": " + what
}

// ErrNoProgram reports that Mercurial is not installed.
var ErrNoProgram = errors.New(
	"this folder belongs to Mercurial, but there is no “hg” here: install Mercurial, and start " +
		"dorvik again")

// server is a running command server. Starting hg takes longer than most of its
// commands, so one process runs them all, one at a time.
type server struct {
	dir     string
	outside bool // there is no repository yet
	// inherits is a file that hg has open as long as it runs; nil for none. Whoever locks it knows that no hg of a
	// Dorvik that was killed is still at work.
	inherits *os.File

	mu      sync.Mutex
	env     []string          // variables besides the person's
	answers map[string]string // to what it asked of the person, while they are right
	cmd     *exec.Cmd
	in      io.WriteCloser
	out     *bufio.Reader
	errors  bytes.Buffer // what the process itself says, beside its channels
}

// effect is what a command does.
type effect int

const (
	reads  effect = iota + 1
	writes        // if it fails, hg is started anew: it would go on from what it has in memory and did not write
)

// allowed lists the hg commands that Dorvik runs. Commands that merge, replay or shelve are Dorvik's own work.
var allowed = map[string]effect{
	"add": writes, "bookmark": writes, "bookmarks": reads, "branch": writes, "branches": reads, "bundle": reads,
	"config": reads, "copy": writes, "debugdata": reads, "debugmergestate": reads, "debugrebuilddirstate": writes,
	"debugsetparents": writes, "files": reads, "forget": writes, "identify": reads, "init": writes, "log": reads,
	"phase": writes, "pull": writes, "push": writes, "recover": writes, "status": reads, "strip": writes, "tags": reads,
	"unbundle": writes, "update": writes, "verify": reads,
}

// subcommand returns the command among arguments, after settings.
func subcommand(args []string) string {
	for len(args) > 2 && args[0] == "--config" {
		args = args[2:]
	}
	if len(args) == 0 {
		return ""
	}
	return args[0]
}

// plainEnv makes output independent of the person's settings and language.
var plainEnv = []string{"HGPLAIN=1", "HGENCODING=UTF-8", "HGEDITOR=false"}

// environment returns the environment of hg.
func (s *server) environment() []string { return slices.Concat(os.Environ(), plainEnv, s.env) }

// start starts the process and reads its greeting. The caller holds the lock.
func (s *server) start() error {
	path, err := exec.LookPath("hg")
	if err != nil {
		return ErrNoProgram
	}
	s.errors.Reset()
	if s.answers == nil {
		s.answers = map[string]string{}
	}
	asks := s.asks() != ""
	args := []string{"--cwd", s.dir, "--config", "ui.timeout=2", "--config", fmt.Sprint("ui.interactive=", asks),
		"--config", "ui.nontty=true", "serve", "--cmdserver", "pipe"}
	if !s.outside {
		args = append([]string{"-R", s.dir}, args...)
	}
	s.cmd = exec.Command(path, args...)
	s.cmd.Env, s.cmd.Stderr = s.environment(), &s.errors
	if s.inherits != nil {
		s.cmd.ExtraFiles = []*os.File{s.inherits}
	}
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // ctrl+c on the terminal is for Dorvik alone
	if s.in, err = s.cmd.StdinPipe(); err != nil {
		return err
	}
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := s.cmd.Start(); err != nil {
		s.cmd = nil
		return fmt.Errorf("starting hg: %w", err)
	}
	s.out = bufio.NewReaderSize(out, 1<<16)
	if channel, _, err := s.frame(); err != nil || channel != 'o' {
		s.stop()
		said := strings.TrimSpace(s.errors.String())
		return &Error{Doing: "starting hg", Said: strings.Split(said, "\n"), Exit: 255}
	}
	return nil
}

// stop ends the process. The caller holds the lock.
func (s *server) stop() {
	if s.cmd == nil {
		return
	}
	s.in.Close()
	kill(s.cmd)
	_ = s.cmd.Wait()
	s.cmd = nil
}

// kill ends a process and all that it started.
func kill(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM) }

// largestFrame is more than hg sends at once.
const largestFrame = 1 << 30

// frame reads a channel's letter and its data. For the input channels it returns no data.
func (s *server) frame() (channel byte, data []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(s.out, head[:]); err != nil {
		return 0, nil, err
	}
	size := binary.BigEndian.Uint32(head[1:])
	if head[0] == 'I' || head[0] == 'L' {
		return head[0], nil, nil
	}
	if size > largestFrame {
		return 0, nil, fmt.Errorf("hg sent a message of %d bytes", size)
	}
	data = make([]byte, size)
	_, err = io.ReadFull(s.out, data)
	return head[0], data, err
}

// run runs a command and returns its output. A cancelled context ends the process; the next command starts another.
func (s *server) run(ctx context.Context, doing string, args ...string) (string, error) {
	out, said, code, err := s.all(ctx, args...)
	if err != nil {
		return "", err
	}
	if code != 0 {
		return out, &Error{doing, said, code}
	}
	return out, nil
}

// all runs a command and returns everything that it said, and its exit code.
func (s *server) all(ctx context.Context, args ...string) (out string, said []string, code int, err error) {
	does := allowed[subcommand(args)]
	if does == 0 {
		return "", nil, 0, fmt.Errorf("“hg %s” is not a command that Dorvik runs", strings.Join(args, " "))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return "", nil, 0, err
	}
	if s.cmd == nil {
		if err := s.start(); err != nil {
			return "", nil, 0, err
		}
	}
	cmd := s.cmd
	ended := context.AfterFunc(ctx, func() { kill(cmd) })
	defer ended()
	out, words, code, err := s.exchange(ctx, args)
	if err != nil {
		s.stop()
		if ctx.Err() != nil {
			return "", nil, 0, ctx.Err()
		}
		last := "it said nothing"
		if words := linesOf(s.errors.String()); len(words) > 0 { // the last line of a traceback names the error
			last = words[len(words)-1]
		}
		return "", nil, 0, fmt.Errorf("“hg %s” ended unexpectedly: %s", subcommand(args), last)
	}
	if code != 0 {
		clear(s.answers)
	}
	const failed = 255
	if code == failed && does == writes {
		s.stop()
	}
	return out, linesOf(words), code, nil
}

// exchange sends a command and reads its answer.
func (s *server) exchange(ctx context.Context, args []string) (out, words string, code int, err error) {
	text := strings.Join(args, "\x00")
	var b bytes.Buffer
	b.WriteString("runcommand\n")
	b.Write(binary.BigEndian.AppendUint32(nil, uint32(len(text))))
	b.WriteString(text)
	if _, err := s.in.Write(b.Bytes()); err != nil {
		return "", "", 0, err
	}
	var o, e bytes.Buffer
	asked := &login{server: s, given: map[string]bool{}}
	for {
		channel, data, err := s.frame()
		if err != nil {
			return "", "", 0, err
		}
		switch channel {
		case 'o':
			o.Write(data)
		case 'e':
			e.Write(data)
		case 'r':
			if len(data) != 4 {
				return "", "", 0, errors.New("its answer has no exit code")
			}
			return o.String(), e.String(), int(int32(binary.BigEndian.Uint32(data))), nil
		case 'I', 'L':
			line := asked.answer(ctx, question(&o)+question(&e))
			if _, err := s.in.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(line))),
				line...)); err != nil {
				return "", "", 0, err
			}
		default:
			if channel >= 'A' && channel <= 'Z' {
				return "", "", 0, fmt.Errorf("it asks for a channel %q", channel)
			}
		}
	}
}

// withEnv sets variables for the commands from now on.
func (s *server) withEnv(env []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if slices.Equal(s.env, env) {
		return
	}
	s.env = slices.Clone(env)
	s.stop()
}

// close ends the process. hg ends by itself when its input is closed; it is killed if it does not.
func (s *server) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cmd == nil {
		return
	}
	s.in.Close()
	cmd := s.cmd
	late := time.AfterFunc(time.Second, func() { kill(cmd) })
	_ = s.cmd.Wait()
	late.Stop()
	s.cmd = nil
}

// linesOf splits a text into its lines, without blank ones.
func linesOf(text string) (out []string) {
	for line := range strings.SplitSeq(text, "\n") {
		if line = strings.TrimRight(line, "\r"); strings.TrimSpace(line) != "" {
			out = append(out, line)
		}
	}
	return out
}
