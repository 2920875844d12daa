// Package askpass lets git and ssh ask the person for a password while another program owns the terminal. That program
// serves a socket in a folder of its own; git starts the same program again with the prompt as its argument, which
// passes it on and prints the answer (gitcredentials(7), ssh(1)). Answers are neither stored nor logged.
package askpass

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// name is that of the link to the program under which it asks.
const name = "dorvik-askpass"

// socket is the variable with the path of the socket.
const socket = "DORVIK_ASKPASS"

// Server passes prompts on.
type Server struct {
	// Env has the variables for programs that may ask.
	Env []string

	listener net.Listener
	dir      string
}

// Serve starts a server. ask is called for each prompt, possibly by several goroutines at once; ok is false if the
// person does not answer. Serve returns a server without variables if the environment names a program for this
// already.
func Serve(ctx context.Context, ask func(ctx context.Context, prompt string) (answer string, ok bool)) (*Server,
	error) {
	if os.Getenv("GIT_ASKPASS") != "" || os.Getenv("SSH_ASKPASS") != "" {
		return &Server{}, nil
	}
	program, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("looking for the program that asks for passwords: %w", err)
	}
	s := &Server{}
	if s.dir, err = os.MkdirTemp("", "dorvik-askpass-"); err != nil { // only the person may enter it
		return nil, err
	}
	path := filepath.Join(s.dir, "socket")
	if s.listener, err = net.Listen("unix", path); err != nil {
		os.RemoveAll(s.dir)
		return nil, fmt.Errorf("making a socket for passwords: %w", err)
	}
	link := filepath.Join(s.dir, name)
	if err := os.Symlink(program, link); err != nil {
		s.Close()
		return nil, fmt.Errorf("linking the program that asks for passwords: %w", err)
	}
	s.Env = []string{"GIT_ASKPASS=" + link, "SSH_ASKPASS=" + link, "SSH_ASKPASS_REQUIRE=force", socket + "=" + path}
	go s.serve(ctx, ask)
	return s, nil
}

// serve answers until the server is closed.
func (s *Server) serve(ctx context.Context, ask func(ctx context.Context, prompt string) (string, bool)) {
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			prompt, err := bufio.NewReader(io.LimitReader(conn, longest)).ReadString(0)
			if err != nil {
				return
			}
			if answer, ok := ask(ctx, strings.TrimSuffix(prompt, "\x00")); ok {
				_, _ = io.WriteString(conn, answer+"\x00")
			}
		}()
	}
}

// Close ends the server and removes its folder.
func (s *Server) Close() {
	if s.listener != nil {
		s.listener.Close()
		os.RemoveAll(s.dir)
	}
}

// longest is the greatest length of a prompt or an answer in bytes.
const longest = 1 << 14

// Asked reports whether a process was started by this name to ask. A hook that git runs has the variable, too.
func Asked(startedAs string) bool { return filepath.Base(startedAs) == name && os.Getenv(socket) != "" }

// Ask passes a prompt to the server and writes the answer. The exit code is 1 if there is none, so that git stops.
func Ask(prompt string, out io.Writer) (exit int) {
	conn, err := net.DialTimeout("unix", os.Getenv(socket), 5*time.Second)
	if err != nil {
		return 1
	}
	defer conn.Close()
	if _, err := io.WriteString(conn, prompt+"\x00"); err != nil {
		return 1
	}
	answer, err := bufio.NewReader(io.LimitReader(conn, longest)).ReadString(0)
	if err != nil {
		return 1
	}
	if _, err := fmt.Fprintln(out, strings.TrimSuffix(answer, "\x00")); err != nil {
		return 1
	}
	return 0
}
