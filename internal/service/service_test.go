package service

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"runtime"
	"strconv"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// program is a program that does what it is told, in fake time.
type program struct {
	starts int
	run    func(ctx context.Context, start int, output func([]byte)) error
	states []State
	times  []time.Duration
	begun  time.Time
}

func (p *program) config() Config {
	p.begun = time.Now()
	return Config{
		Run: func(ctx context.Context, output func([]byte)) error {
			p.starts++
			return p.run(ctx, p.starts, output)
		},
		Tell: func(e Event) {
			if e.State != "" {
				p.states, p.times = append(p.states, e.State), append(p.times, e.Time.Sub(p.begun))
			}
		},
	}
}

var errBad = errors.New("exit code 1")

func stays(ctx context.Context, _ int, _ func([]byte)) error {
	<-ctx.Done()
	return context.Cause(ctx)
}

func TestAServiceIsReadyAndIsStopped(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &program{run: stays}
		s := Start(p.config())
		require.NoError(t, s.WaitReady(t.Context()))
		assert.Equal(t, Ready, s.Status().State)
		s.Stop(errors.New("enough"))
		<-s.Done()
		assert.NoError(t, s.Err())
		assert.Equal(t, []State{Ready, Stopped}, p.states)
	})
}

func TestALineMakesItReady(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &program{run: func(ctx context.Context, start int, output func([]byte)) error {
			output([]byte("loading\nnow liste"))
			<-time.After(time.Second)
			output([]byte("ning\n"))
			return stays(ctx, start, output)
		}}
		cfg := p.config()
		cfg.Check.Log = regexp.MustCompile("^now listening")
		s := Start(cfg)
		require.NoError(t, s.WaitReady(t.Context()))
		assert.Equal(t, time.Second, time.Since(p.begun))
		s.Stop(nil)
		<-s.Done()
	})
}

func TestNotReadyInTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &program{run: stays}
		cfg := p.config()
		cfg.Check = Check{Run: func(context.Context) error { return errBad }, Text: "test -e up", Timeout: 5 * time.Second}
		s := Start(cfg)
		assert.EqualError(t, s.WaitReady(t.Context()), "was not ready within 5s: the check fails: test -e up")
		<-s.Done()
		assert.Equal(t, []State{Failed}, p.states)
	})
}

func TestPausesDoubleUntilItGivesUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &program{run: func(context.Context, int, func([]byte)) error { return errBad }}
		cfg := p.config()
		cfg.Restart = true
		s := Start(cfg)
		<-s.Done()
		assert.EqualError(t, s.Err(), "exit code 1; it failed 10 times in a row")
		assert.Equal(t, 10, p.starts)
		// 0.5, 1, 2, 4, 8, 16, 30, 30 and 30 s
		assert.Equal(t, 121500*time.Millisecond, p.times[len(p.times)-1])
		assert.Equal(t, 9, s.Status().Restarts)
	})
}

func TestGoodHealthCounts(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		last := make(chan struct{})
		p := &program{run: func(ctx context.Context, start int, output func([]byte)) error {
			if start == 30 {
				close(last)
				return stays(ctx, start, output)
			}
			<-time.After(11 * time.Minute)
			return errBad
		}}
		cfg := p.config()
		cfg.Restart = true
		s := Start(cfg)
		<-last
		require.NoError(t, s.WaitReady(t.Context()))
		s.Stop(nil)
		<-s.Done()
		assert.NoError(t, s.Err(), "it never failed ten times in a row")
	})
}

func TestWhatEndsByItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := &program{run: func(context.Context, int, func([]byte)) error { return nil }}
		cfg := p.config()
		cfg.Restart = true // that is no failure
		cfg.Check.Log = regexp.MustCompile("never")
		s := Start(cfg)
		assert.ErrorIs(t, s.WaitReady(t.Context()), errEnded)
		<-s.Done()
		assert.NoError(t, s.Err())
		assert.Equal(t, []State{Stopped}, p.states)
	})
}

func TestATakenPortIsNamed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	p := &program{run: stays}
	cfg := p.config()
	cfg.Check.Port = l.Addr().String()
	s := Start(cfg)
	err = s.WaitReady(t.Context())
	require.ErrorAs(t, err, new(*TakenError))
	if runtime.GOOS == "linux" {
		assert.Contains(t, err.Error(), "(process "+strconv.Itoa(os.Getpid())+")")
	}
	assert.Zero(t, p.starts)
	<-s.Done()
}

func TestAPortMakesItReady(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	l.Close()
	p := &program{run: func(ctx context.Context, start int, output func([]byte)) error {
		again, err := net.Listen("tcp", address)
		if err != nil {
			return err
		}
		defer again.Close()
		return stays(ctx, start, output)
	}}
	cfg := p.config()
	cfg.Check.Port = address
	s := Start(cfg)
	require.NoError(t, s.WaitReady(t.Context()))
	s.Stop(nil)
	<-s.Done()
}

func TestAnAnswerMakesItReady(t *testing.T) {
	var asked atomic.Int32
	web := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if asked.Add(1) < 3 {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	defer web.Close()
	address := web.Listener.Addr().String()
	web.Listener.Close() // the program listens, not the test
	p := &program{run: func(ctx context.Context, start int, output func([]byte)) error {
		l, err := net.Listen("tcp", address)
		if err != nil {
			return err
		}
		web.Listener = l
		web.Start()
		return stays(ctx, start, output)
	}}
	cfg := p.config()
	cfg.Check.HTTP = "http://" + address + "/health"
	s := Start(cfg)
	require.NoError(t, s.WaitReady(t.Context()))
	assert.EqualValues(t, 3, asked.Load())
	s.Stop(nil)
	<-s.Done()
}
