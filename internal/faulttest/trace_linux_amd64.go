package faulttest

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// fault is what happens at one operation on files.
type fault struct {
	name  string
	alone bool          // only the process that comes to it is killed, and not all
	errno syscall.Errno // with which it fails instead; 0 to kill
}

var faults = []fault{{"all die", false, 0}, {"it dies", true, 0}, {"an error of the disk", false, unix.EIO},
	{"a full disk", false, unix.ENOSPC}, {"no permission", false, unix.EACCES}}

// tracer runs a program with all that it starts, stops each thread at its calls of the system (ptrace, as the kernel
// documents it), and has a fault happen at the n-th operation that changes a file below a folder.
type tracer struct {
	dir     string
	at      int // from 1; 0 for none
	fault   fault
	n       int    // operations so far
	on, hit string // the file of the last operation, and what the fault met
	main    int
	inside  map[int]bool // threads that are within a call
	failing map[int]bool // whose call is made to fail
	ended   syscall.WaitStatus
}

// run runs the tracer in a process of its own: it waits for whatever ends. n is how many operations there were, exit
// how the program ended, -1 for killed, hit what the fault met; the error is that of tracing.
func (x *tracer) run(what string) (n, exit int, hit string, err error) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), fmt.Sprintf(traced+"=%d %d", x.at, slices.Index(faults, x.fault)),
		"DORVIK_ACT="+what,
		"DORVIK_DIR="+x.dir, "GOMAXPROCS=1")
	out, err := cmd.Output()
	if err == nil {
		_, err = fmt.Sscan(string(out), &n, &exit)
		_, hit, _ = strings.Cut(strings.TrimSpace(string(out)), "\n")
	}
	return n, exit, hit, err
}

// under runs this program under a tracer, as a text says, and ends.
func under(spec string) {
	runtime.LockOSThread() // the kernel tells only the thread that traces
	x := &tracer{dir: os.Getenv("DORVIK_DIR")}
	which := 0
	_, err := fmt.Sscan(spec, &x.at, &which)
	x.fault = faults[max(0, which)]
	os.Unsetenv(traced)
	cmd := exec.Command(os.Args[0])
	if err == nil {
		err = x.trace(cmd)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(x.n, x.ended.ExitStatus())
	fmt.Println(x.hit)
	os.Exit(0)
}

func (x *tracer) trace(cmd *exec.Cmd) error {
	cmd.SysProcAttr = &syscall.SysProcAttr{Ptrace: true, Setpgid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	x.main, x.inside, x.failing = cmd.Process.Pid, map[int]bool{}, map[int]bool{}
	var ws syscall.WaitStatus
	if _, err := syscall.Wait4(x.main, &ws, 0, nil); err != nil {
		return err
	}
	const all = unix.PTRACE_O_TRACEFORK | unix.PTRACE_O_TRACEVFORK | unix.PTRACE_O_TRACECLONE |
		unix.PTRACE_O_TRACEEXEC | unix.PTRACE_O_TRACESYSGOOD | unix.PTRACE_O_EXITKILL
	if err := syscall.PtraceSetOptions(x.main, all); err != nil {
		return err
	}
	_ = syscall.PtraceSyscall(x.main, 0)
	for {
		tid, err := syscall.Wait4(-1, &ws, unix.WALL, nil)
		if errors.Is(err, unix.ECHILD) {
			_ = cmd.Process.Release()
			return nil
		}
		if err != nil {
			return err
		}
		if ws.Exited() || ws.Signaled() {
			if delete(x.inside, tid); tid == x.main {
				x.ended = ws
			}
			continue
		}
		signal := 0
		switch stop := ws.StopSignal(); {
		case stop == unix.SIGTRAP|0x80:
			x.called(tid)
		case stop != unix.SIGTRAP && stop != unix.SIGSTOP: // those are of the tracing
			signal = int(stop)
		}
		_ = syscall.PtraceSyscall(tid, signal) // it may be dead by now
	}
}

// called is told that a thread begins a call, or ends it.
func (x *tracer) called(tid int) {
	var regs syscall.PtraceRegs
	if syscall.PtraceGetRegs(tid, &regs) != nil {
		return
	}
	x.inside[tid] = !x.inside[tid]
	switch {
	case !x.inside[tid] && x.failing[tid]:
		delete(x.failing, tid)
		regs.Rax = uint64(-int64(x.fault.errno))
		_ = syscall.PtraceSetRegs(tid, &regs)
	case x.inside[tid] && x.changes(tid, &regs):
		if x.n++; x.n != x.at {
			return
		}
		line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", tid))
		x.hit = fmt.Sprintf("call %d of %q on %s", regs.Orig_rax, strings.Join(strings.Split(string(line), "\x00"),
			" "),
			strings.TrimPrefix(x.on, x.dir+"/"))
		switch {
		case x.fault.errno != 0:
			regs.Orig_rax, x.failing[tid] = ^uint64(0), true // there is no such call
			_ = syscall.PtraceSetRegs(tid, &regs)
		case x.fault.alone:
			_ = syscall.Kill(tgid(tid), unix.SIGKILL)
		default:
			for each := range x.inside {
				_ = syscall.Kill(tgid(each), unix.SIGKILL)
			}
		}
	}
}

// tgid is the process of a thread.
func tgid(tid int) int {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", tid))
	pid := tid
	if _, after, ok := strings.Cut(string(data), "\nTgid:"); ok {
		_, _ = fmt.Sscan(after, &pid)
	}
	return pid
}

// changes reports whether a call changes a file, or the name of one, below the folder.
func (x *tracer) changes(tid int, r *syscall.PtraceRegs) bool {
	switch r.Orig_rax {
	case unix.SYS_WRITE, unix.SYS_PWRITE64, unix.SYS_FTRUNCATE, unix.SYS_FCHMOD, unix.SYS_FSYNC:
		return x.below(link(tid, "fd/"+fmt.Sprint(r.Rdi)))
	case unix.SYS_RENAME, unix.SYS_UNLINK, unix.SYS_MKDIR, unix.SYS_RMDIR, unix.SYS_TRUNCATE, unix.SYS_CHMOD:
		return x.below(x.path(tid, unix.AT_FDCWD, r.Rdi))
	case unix.SYS_LINK, unix.SYS_SYMLINK:
		return x.below(x.path(tid, unix.AT_FDCWD, r.Rsi))
	case unix.SYS_RENAMEAT, unix.SYS_RENAMEAT2, unix.SYS_UNLINKAT, unix.SYS_MKDIRAT, unix.SYS_FCHMODAT:
		return x.below(x.path(tid, int(int32(r.Rdi)), r.Rsi))
	case unix.SYS_LINKAT, unix.SYS_SYMLINKAT:
		return x.below(x.path(tid, int(int32(r.Rsi)), r.Rdx))
	case unix.SYS_OPEN:
		return r.Rsi&(unix.O_CREAT|unix.O_TRUNC) != 0 && x.below(x.path(tid, unix.AT_FDCWD, r.Rdi))
	case unix.SYS_OPENAT:
		return r.Rdx&(unix.O_CREAT|unix.O_TRUNC) != 0 && x.below(x.path(tid, int(int32(r.Rdi)), r.Rsi))
	}
	return false
}

func (x *tracer) below(path string) bool {
	x.on = path
	return strings.HasPrefix(path, x.dir+"/")
}

func link(tid int, name string) string {
	to, _ := os.Readlink(fmt.Sprintf("/proc/%d/%s", tid, name))
	return to
}

// path reads the name of a file that a call is given, from the folder that it is given too.
func (x *tracer) path(tid, at int, from uint64) string {
	var text []byte
	for word := make([]byte, 8); len(text) < unix.PathMax; from += 8 {
		if _, err := syscall.PtracePeekData(tid, uintptr(from), word); err != nil {
			return ""
		}
		if i := strings.IndexByte(string(word), 0); i >= 0 {
			text = append(text, word[:i]...)
			break
		}
		text = append(text, word...)
	}
	if name := string(text); filepath.IsAbs(name) {
		return filepath.Clean(name)
	} else if at == unix.AT_FDCWD {
		return filepath.Join(link(tid, "cwd"), name)
	} else {
		return filepath.Join(link(tid, "fd/"+fmt.Sprint(at)), name)
	}
}
