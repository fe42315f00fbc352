package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"sync"
	"time"
)

// Check tells when a program is ready: when all that is given holds. The zero Check
// holds as soon as the program runs.
type Check struct {
	Port    string         // an address, host:port, that accepts connections
	HTTP    string         // an address that answers with a status below 400
	Log     *regexp.Regexp // matches a line that it prints
	Run     func(ctx context.Context) error
	Text    string        // of Run, for messages
	Timeout time.Duration // 0: half a minute
}

// defaultTimeout is how long a program may take to be ready.
const defaultTimeout = 30 * time.Second

func (c Check) timeout() time.Duration {
	if c.Timeout == 0 {
		return defaultTimeout
	}
	return c.Timeout
}

// String says what is waited for.
func (c Check) String() string {
	switch {
	case c.Port != "":
		return fmt.Sprintf("nothing accepts connections at %s", c.Port)
	case c.HTTP != "":
		return fmt.Sprintf("%s does not answer", c.HTTP)
	case c.Log != nil:
		return fmt.Sprintf("it printed no line that matches %q", c.Log.String())
	case c.Run != nil:
		return fmt.Sprintf("the check fails: %s", c.Text)
	}
	return "it did not start"
}

// How often it is asked whether a program is ready.
const (
	firstAsk = 10 * time.Millisecond
	lastAsk  = 250 * time.Millisecond
)

// wait returns when the check holds. The error says that it did not in time, or is
// that of ctx.
func (c Check) wait(ctx context.Context, log *logCheck) error {
	ctx, cancel := context.WithTimeout(ctx, c.timeout())
	defer cancel()
	for pause := firstAsk; !c.holds(ctx, log); pause = min(2*pause, lastAsk) {
		select {
		case <-log.matched: // nil without a log check: never
			if c.holds(ctx, log) {
				return nil
			}
		case <-time.After(pause):
		case <-ctx.Done():
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return ctx.Err()
}

// holds reports whether the check holds now.
func (c Check) holds(ctx context.Context, log *logCheck) bool {
	if c.Log != nil && !log.holds() {
		return false
	}
	return c.Probe(ctx) == nil
}

// Probe looks once whether all but the log holds. The error tells what was seen.
func (c Check) Probe(ctx context.Context) error {
	if c.Port != "" {
		if err := accepts(ctx, c.Port); err != nil {
			return err
		}
	}
	if c.HTTP != "" {
		if err := answers(ctx, c.HTTP); err != nil {
			return err
		}
	}
	if c.Run != nil {
		return c.Run(ctx)
	}
	return nil
}

// accepts returns nil if an address accepts connections.
func accepts(ctx context.Context, address string) error {
	dialer := net.Dialer{Timeout: time.Second}
	conn, err := dialer.DialContext(ctx, "tcp", address)
	if err != nil {
		return inner(err)
	}
	return conn.Close()
}

// inner returns an error of the network without the address, which is known.
func inner(err error) error {
	var op *net.OpError
	var call *os.SyscallError
	switch {
	case errors.As(err, &call):
		return call.Err
	case errors.As(err, &op):
		return op.Err
	}
	return err
}

// answers returns nil if an address answers with a status below 400.
func answers(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return inner(err)
	}
	resp.Body.Close()
	if resp.StatusCode >= 400 {
		return fmt.Errorf("it answers with %s", resp.Status)
	}
	return nil
}

// TakenError says that another program has the port of a service.
type TakenError struct {
	Address string
	Holder  string // which program that is; empty: the system does not tell
}

func (e *TakenError) Error() string {
	if e.Holder == "" {
		return fmt.Sprintf("%s is taken by another program", e.Address)
	}
	return fmt.Sprintf("%s is taken by %s", e.Address, e.Holder)
}

// taken returns a [*TakenError] if something has the port already for which the check
// waits: it would be taken for the service.
func (c Check) taken() error {
	address := c.Port
	if address == "" && c.HTTP != "" {
		if u, err := url.Parse(c.HTTP); err == nil && u.Port() != "" {
			address = u.Host
		}
	}
	if address == "" || accepts(context.Background(), address) != nil {
		return nil
	}
	return Taken(address)
}

// Taken returns the error that says that an address is taken, and by whom.
func Taken(address string) *TakenError {
	return &TakenError{Address: address, Holder: holder(address)}
}

// logCheck looks for a line in what a program prints.
type logCheck struct {
	pattern *regexp.Regexp
	matched chan struct{} // closed when a line matched; nil: there is no pattern

	mu      sync.Mutex // protects the fields below
	partial []byte
	found   bool
}

// maxLine is how much of a line is looked at, in bytes.
const maxLine = 16 << 10

func (c Check) newLogCheck() *logCheck {
	l := &logCheck{pattern: c.Log}
	if c.Log != nil {
		l.matched = make(chan struct{})
	}
	return l
}

func (l *logCheck) holds() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.found
}

// add looks at a piece of output. A line counts before it has ended.
func (l *logCheck) add(text []byte) {
	if l.pattern == nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for !l.found && len(text) > 0 {
		line, rest, ended := bytes.Cut(text, []byte("\n"))
		l.partial = append(l.partial, line[:min(len(line), max(0, maxLine-len(l.partial)))]...)
		if l.pattern.Match(bytes.TrimSuffix(l.partial, []byte("\r"))) {
			l.found, l.partial = true, nil
			close(l.matched)
			return
		}
		if ended {
			l.partial = l.partial[:0]
		}
		text = rest
	}
}
