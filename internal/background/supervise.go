package background

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tugline/internal/atomicfile"
	"tugline/internal/secret"
	"tugline/internal/serve"
	"tugline/internal/service"
	"tugline/internal/shell"
)

// request is what a supervisor is given.
type request struct {
	Records string // the folder of records of the project
	Spec    Spec
}

// supervisor keeps one service running.
type supervisor struct {
	folder  Folder
	spec    Spec
	session *shell.Session
	mask    secret.Mask
	log     *boundedLog
	service *service.Service
	address atomic.Value // a string
	stopped atomic.Bool  // somebody asked for that
}

// Supervise keeps the service running that input tells of, until it has ended or ctx
// is done. Only one process does that for a service at a time.
func Supervise(ctx context.Context, input io.Reader, session *shell.Session) error {
	var r request
	if err := json.NewDecoder(input).Decode(&r); err != nil {
		return fmt.Errorf("reading what to supervise: %w", err)
	}
	s := &supervisor{folder: In(r.Records), spec: r.Spec, session: session}
	err := s.run(ctx)
	if err != nil {
		atomicfile.Write(s.folder.file(s.spec.ID, ".failed"), []byte(err.Error())) // best effort: who started it waits for that
	}
	return err
}

func (s *supervisor) run(ctx context.Context) error {
	lock := s.folder.lock(s.spec.ID)
	locking, cancel := context.WithTimeout(ctx, lockTime)
	defer cancel()
	if alone, err := lock.TryLockContext(locking, 5*time.Millisecond); err != nil || !alone {
		return errors.New("it runs in the background already")
	}
	defer lock.Unlock()      // fails only for a lock that is gone
	os.Remove(s.spec.Socket) // of one that was killed
	for _, value := range s.spec.Secrets {
		s.mask.Add(value)
	}
	var err error
	if s.log, err = openLog(s.spec.LogFile); err != nil {
		return err
	}
	defer s.log.Close()
	check, err := s.check()
	if err != nil {
		return err
	}
	listener, err := net.Listen("unix", s.spec.Socket)
	if err != nil {
		return fmt.Errorf("listening: %w", err)
	}
	defer os.Remove(s.spec.Socket)
	defer listener.Close()
	if err := os.Chmod(s.spec.Socket, 0o600); err != nil {
		return fmt.Errorf("listening: %w", err)
	}
	s.spec.Process, s.spec.Started = os.Getpid(), time.Now().UTC()
	entry, err := json.Marshal(s.spec.Entry)
	if err == nil {
		err = atomicfile.Write(s.folder.file(s.spec.ID, ".json"), append(entry, '\n'))
	}
	if err != nil {
		return fmt.Errorf("noting the service: %w", err)
	}
	defer os.Remove(s.folder.file(s.spec.ID, ".json"))

	s.service = service.Start(service.Config{Run: s.program, Check: check, Restart: s.spec.Restart, Tell: s.tell})
	stop := context.AfterFunc(ctx, func() { s.service.Stop(context.Cause(ctx)) })
	defer stop()
	var answers sync.WaitGroup
	go s.answer(listener, &answers)
	<-s.service.Done()
	listener.Close()
	answers.Wait() // who waits for it to be ready is told that it will not be
	switch status := s.status(); {
	case status.Error != "":
		return errors.New(status.Error)
	case ctx.Err() == nil && !s.stopped.Load():
		return errEnded
	}
	return nil
}

// lockTime is how long the lock is tried: who only asks whether the service runs
// holds it for a moment.
const lockTime = time.Second

// tell notes what happens to the service in its log.
func (s *supervisor) tell(e service.Event) {
	if e.State == "" {
		s.log.Write(e.Output) // best effort
		return
	}
	fmt.Fprintf(s.log, "— %s %s\n", e.Time.Local().Format("2006-01-02 15:04:05"), strings.TrimSpace(string(e.State)+" "+e.Reason)) // best effort
}

// program runs the service once.
func (s *supervisor) program(ctx context.Context, output func([]byte)) error {
	if s.spec.Serve != nil {
		return s.servePages(ctx, output)
	}
	masked := s.mask.Writer(output)
	defer masked.Flush()
	for _, c := range s.spec.Commands {
		cmd, err := c.command()
		if err != nil {
			return err
		}
		cmd.Output = func(text []byte) { masked.Write(text) }
		if err := s.session.Run(ctx, cmd); err != nil {
			return err
		}
	}
	return nil
}

// command returns a command as package shell takes it.
func (c *Command) command() (shell.Command, error) {
	cmd := shell.Command{Args: c.Args, Script: c.Script, Params: c.Params, Dir: c.Folder, Env: c.Env, Grace: c.Grace, Output: func([]byte) {}}
	if len(c.Args) > 0 {
		return cmd, nil
	}
	program, problems := shell.Parse(c.Script)
	if len(problems) > 0 {
		return cmd, errors.New(problems[0].Msg)
	}
	cmd.Program = program
	return cmd, nil
}

func (s *supervisor) servePages(ctx context.Context, output func([]byte)) error {
	err := serve.Run(ctx, *s.spec.Serve, true, func(server *serve.Server) {
		local, network := server.Addresses()
		s.address.Store(local)
		output([]byte(strings.TrimSpace("serving "+local+" "+network) + "\n"))
	})
	var taken *serve.TakenError
	if errors.As(err, &taken) {
		return service.Taken(taken.Address)
	}
	return err
}

// check returns when the service is ready.
func (s *supervisor) check() (service.Check, error) {
	check := service.Check{Port: s.spec.Port, HTTP: s.spec.HTTP, Timeout: s.spec.Timeout}
	s.address.Store(s.spec.Port + s.spec.HTTP)
	if s.spec.Log != "" {
		pattern, err := regexp.Compile(s.spec.Log)
		if err != nil {
			return check, err
		}
		check.Log = pattern
	}
	if c := s.spec.Check; c != nil {
		check.Text, _, _ = strings.Cut(strings.TrimSpace(c.Script), "\n")
		check.Run = func(ctx context.Context) error {
			cmd, err := c.command()
			if err != nil {
				return err
			}
			return s.session.Run(ctx, cmd)
		}
	}
	if s.spec.Serve != nil {
		check.Text = "it does not listen"
		check.Run = func(context.Context) error {
			if s.address.Load() == "" {
				return errors.New("not yet")
			}
			return nil
		}
	}
	return check, nil
}

// answer answers what is asked on the socket.
func (s *supervisor) answer(listener net.Listener, answers *sync.WaitGroup) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return // it is closed
		}
		answers.Go(func() {
			defer conn.Close()
			conn.SetReadDeadline(time.Now().Add(10 * time.Second))
			what, err := bufio.NewReader(io.LimitReader(conn, 64)).ReadString('\n')
			if err != nil {
				return
			}
			switch strings.TrimSpace(what) {
			case "stop":
				s.stopped.Store(true)
				s.service.Stop(errStopped)
				<-s.service.Done()
			case "wait":
				s.service.WaitReady(context.Background()) // its end is in the status
			}
			json.NewEncoder(conn).Encode(s.status()) // who asked may be gone
		})
	}
}

// errStopped is the cause of the end of a service that is stopped.
var errStopped = errors.New("it was stopped")

// status returns how the service is. The reason of a failure ends with the last
// lines of its log.
func (s *supervisor) status() Status {
	now := s.service.Status()
	status := Status{State: now.State, Since: now.Since.UTC(), Restarts: now.Restarts, Address: s.address.Load().(string)}
	if err := s.service.Err(); err != nil {
		status.Error = err.Error()
		if last := s.log.last(); last != "" {
			status.Error += "; its last output:\n" + last
		}
	}
	return status
}

// maxLog is how large a log may become before it is kept aside and a new one begun,
// in bytes. One older log is kept.
const maxLog = 4 << 20

// boundedLog is a log that does not grow without end.
type boundedLog struct {
	name string

	mu   sync.Mutex // protects the fields below
	file *os.File
	size int64
	tail []byte // what was written last
}

func openLog(name string) (*boundedLog, error) {
	l := &boundedLog{name: name}
	return l, l.open()
}

func (l *boundedLog) open() error {
	file, err := atomicfile.Open(l.name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening the log of the service: %w", err)
	}
	info, err := file.Stat()
	if err != nil {
		return fmt.Errorf("opening the log of the service: %w", err)
	}
	l.file, l.size = file, info.Size()
	return nil
}

// tailBytes is how much of a log is kept to tell why a service failed.
const tailBytes = 1 << 10

// Write adds to the log.
func (l *boundedLog) Write(text []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.tail = append(l.tail, text...)
	l.tail = l.tail[max(0, len(l.tail)-tailBytes):]
	if l.size+int64(len(text)) > maxLog {
		l.file.Close()
		if err := os.Rename(l.name, l.name+".old"); err != nil {
			return 0, err
		}
		if err := l.open(); err != nil {
			return 0, err
		}
	}
	n, err := l.file.Write(text)
	l.size += int64(n)
	return n, err
}

// last returns the last lines that were written, but for what the supervisor noted.
func (l *boundedLog) last() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	var lines []string
	for line := range bytes.SplitSeq(bytes.TrimSpace(l.tail), []byte("\n")) {
		if !bytes.HasPrefix(line, []byte("— ")) {
			lines = append(lines, string(line))
		}
	}
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}

// Close closes the log.
func (l *boundedLog) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.file.Close()
}
