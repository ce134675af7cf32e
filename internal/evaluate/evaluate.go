// Package evaluate runs what cannot be bounded beforehand (jq expressions) in child processes of our own program, with
// a limit on their memory: one that takes too much ends its child, and nothing else.
package evaluate

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"urgentis/core/reading"
)

// Memory bounds what one evaluation may take, in bytes.
const Memory = 512 << 20

// patience is how long a child may take for one evaluation; jq itself is told to end before that.
const patience = 5 * time.Second

// ErrRanOut says that an evaluation needed more time or memory than it may.
var ErrRanOut = errors.New("its evaluation ran out")

// ErrTooMuch says that an evaluation took more memory than it may.
var ErrTooMuch error = ranOutError(fmt.Sprintf("its evaluation needs more than %d MiB of memory", Memory>>20))

// ranOutError is an ErrRanOut in words of its own.
type ranOutError string

func (e ranOutError) Error() string { return string(e) }

func (e ranOutError) Is(target error) bool { return target == ErrRanOut }

// errEnded says that a child ended by something else.
var errEnded = errors.New("its evaluation was ended from outside")

var errTooLong error = ranOutError(fmt.Sprintf("its evaluation did not end within %s", patience))

// role is set in the environment of a child, and is all that it has of an environment.
const role = "URGENTIS_EVALUATES"

type request struct {
	Query  string `json:"query"`
	Output string `json:"output"`
}

type answer struct {
	Value   json.RawMessage `json:"value,omitempty"`
	Error   string          `json:"error,omitempty"`
	Missing bool            `json:"missing,omitempty"`
	RanOut  bool            `json:"ran_out,omitempty"` // of time
}

// Pool keeps children. The zero value is not usable; see New.
type Pool struct {
	program string
	nice    int
	idle    chan *child // nil where none runs in that place
	closed  chan struct{}
	once    sync.Once
}

// New makes a pool of at most n children, each begun when it is first needed.
func New(n int) *Pool {
	p := &Pool{program: "/proc/self/exe", idle: make(chan *child, n), closed: make(chan struct{})}
	for range n {
		p.idle <- nil
	}
	return p
}

// Nice has the children yield the processor to all else, by so much.
func (p *Pool) Nice(by int) *Pool {
	p.nice = by
	return p
}

// Close ends the children that are idle, and those at work once they are done.
func (p *Pool) Close() {
	p.once.Do(func() {
		close(p.closed)
		for range cap(p.idle) {
			select {
			case c := <-p.idle:
				c.end()
			default:
			}
		}
	})
}

// Query is a reading.Evaluator. What is certain to stay small is evaluated at once, all else by a child.
func (p *Pool) Query(ctx context.Context, q *reading.Query, output []byte) (any, error) {
	if q.Bounded() {
		return q.Run(ctx, output)
	}
	var c *child
	select {
	case c = <-p.idle:
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-p.closed:
		return nil, errors.New("the service stops")
	}
	v, c, err := p.ask(ctx, c, request{q.Source, string(output)})
	select {
	case <-p.closed:
		c.end()
		c = nil
	default:
	}
	p.idle <- c
	return v, err
}

// ask asks a child, or a new one where there is none. It gives back the child if it can be asked again.
func (p *Pool) ask(ctx context.Context, c *child, r request) (any, *child, error) {
	for fresh := c == nil; ; fresh = true {
		if fresh {
			var err error
			if c, err = p.begin(); err != nil {
				return nil, nil, fmt.Errorf("begin an evaluation: %w", err)
			}
		}
		a, err := c.do(ctx, r)
		switch {
		case err == nil && a.Missing:
			return nil, c, fmt.Errorf("%w: %s gives nothing", reading.ErrMissing, r.Query)
		case err == nil && a.RanOut:
			return nil, c, ranOutError(a.Error)
		case err == nil && a.Error != "":
			return nil, c, errors.New(a.Error)
		case err == nil:
			v, err := reading.ParseJSON(a.Value)
			return v, c, err
		}
		c.end()
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if errors.Is(err, errTooLong) {
			return nil, nil, err
		}
		// One that was kept may have been ended from outside while it was idle.
		if fresh && c.cmd.ProcessState != nil && !c.cmd.ProcessState.Exited() {
			return nil, nil, errEnded
		}
		if fresh {
			return nil, nil, ErrTooMuch
		}
	}
}

type child struct {
	cmd *exec.Cmd
	in  *bufio.Writer
	enc *json.Encoder
	dec *json.Decoder
}

func (p *Pool) begin() (*child, error) {
	cmd := exec.Command(p.program) //nolint:gosec // it is this very program
	cmd.Env = []string{role + "=1", "GOMAXPROCS=1", "GOTRACEBACK=none"}
	cmd.Dir = "/"
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	if p.nice > 0 {
		syscall.Setpriority(syscall.PRIO_PROCESS, cmd.Process.Pid, p.nice) //nolint:errcheck // it is as nice as it can
	}
	w := bufio.NewWriter(in)
	return &child{cmd, w, json.NewEncoder(w), json.NewDecoder(out)}, nil
}

// do hands one request over and waits for its answer. After an error the child is of no use any more.
func (c *child) do(ctx context.Context, r request) (answer, error) {
	late := make(chan struct{})
	t := time.AfterFunc(patience, func() { close(late); c.cmd.Process.Kill() }) //nolint:errcheck // it may be gone
	defer t.Stop()
	stop := context.AfterFunc(ctx, func() { c.cmd.Process.Kill() }) //nolint:errcheck // it may be gone
	defer stop()
	var a answer
	err := c.enc.Encode(r)
	if err == nil {
		err = c.in.Flush()
	}
	if err == nil {
		err = c.dec.Decode(&a)
	}
	if err != nil {
		select {
		case <-late:
			err = errTooLong
		default:
		}
	}
	return a, err
}

func (c *child) end() {
	if c == nil {
		return
	}
	c.cmd.Process.Kill() //nolint:errcheck // it may be gone
	c.cmd.Wait()         //nolint:errcheck // how it ended says nothing
}

// A program that has this package is its own child: what the environment names, it does, and nothing else.
func init() {
	if os.Getenv(role) != "" {
		limit()
		serve(os.Stdin, os.Stdout)
		os.Exit(0)
	}
}

// serve answers requests until there are no more.
func serve(in io.Reader, out io.Writer) {
	dec := json.NewDecoder(bufio.NewReader(in))
	w := bufio.NewWriter(out)
	enc := json.NewEncoder(w)
	for {
		var r request
		if dec.Decode(&r) != nil {
			return
		}
		if enc.Encode(evaluated(r)) != nil || w.Flush() != nil {
			return
		}
	}
}

func evaluated(r request) answer {
	q, err := reading.CompileQuery(r.Query)
	if err != nil {
		return answer{Error: err.Error()}
	}
	v, err := q.Run(context.Background(), []byte(r.Output))
	if errors.Is(err, reading.ErrMissing) {
		return answer{Missing: true}
	}
	if err != nil {
		return answer{Error: err.Error(), RanOut: errors.Is(err, context.DeadlineExceeded)}
	}
	value, err := json.Marshal(v)
	if err != nil {
		return answer{Error: "its value cannot be written: " + err.Error()}
	}
	if len(value) > reading.MaxSize {
		return answer{Error: fmt.Sprintf("it has %d bytes, a reading may have 1 MiB", len(value))}
	}
	return answer{Value: value}
}
