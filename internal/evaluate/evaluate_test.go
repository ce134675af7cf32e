package evaluate

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/reading"
)

// bounded makes a pool whose children are built without the race detector.
func bounded(t testing.TB, n int) *Pool {
	program := filepath.Join(t.TempDir(), "urgentis")
	cmd := exec.Command("go", "build", "-o", program, "./testdata/alone")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=-buildvcs=false")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	p := New(n)
	p.program = program
	t.Cleanup(p.Close)
	return p
}

func query(t *testing.T, src string) *reading.Query {
	q, err := reading.CompileQuery(src)
	require.NoError(t, err)
	return q
}

func TestValuesComeBackAsTheyAre(t *testing.T) {
	p := New(2)
	defer p.Close()
	ctx := context.Background()
	for src, want := range map[string]any{
		".a": 9007199254740993, "[.a]": []any{9007199254740993}, ".b | length": 2,
		"[.b[] | ascii_upcase]": []any{"X", "Y"}, "{c: .d}": map[string]any{"c": 0.5},
	} {
		v, err := p.Query(ctx, query(t, src), []byte(`{"a":9007199254740993,"b":["x","y"],"d":0.5}`))
		require.NoError(t, err, src)
		assert.Equal(t, want, v, src)
	}
	_, err := p.Query(ctx, query(t, ".b[] | select(. == \"z\")"), []byte(`{"b":[]}`))
	assert.ErrorIs(t, err, reading.ErrMissing)
	_, err = p.Query(ctx, query(t, ".b | error(\"no\")"), []byte(`{"b":[]}`))
	assert.ErrorContains(t, err, "no")
	_, err = p.Query(ctx, query(t, "[.]"), []byte(`not json`))
	assert.ErrorContains(t, err, "not JSON")
	_, err = p.Query(ctx, query(t, `[env, $ENV]`), []byte(`{}`))
	assert.NoError(t, err)
}

func TestWhatTakesTooMuchEndsItsChildAndNothingElse(t *testing.T) {
	p := bounded(t, 2)
	ctx := context.Background()
	var wg sync.WaitGroup
	for _, src := range []string{`"x" * 1e9`, `[range(1e9)]`, `[limit(1e9; repeat("y"))] | length`,
		`reduce range(40) as $i ("x"; . + .)`, `def f: f; f`} {
		wg.Go(func() {
			_, err := p.Query(ctx, query(t, src), []byte(`{}`))
			assert.Error(t, err, src)
		})
		wg.Go(func() {
			v, err := p.Query(ctx, query(t, `.a + 1`), []byte(`{"a":1}`))
			assert.NoError(t, err, "what runs beside it")
			assert.Equal(t, 2, v)
		})
	}
	wg.Wait()
	_, err := p.Query(ctx, query(t, `"x" * 1e9`), []byte(`{}`))
	assert.ErrorIs(t, err, ErrTooMuch)
}

func TestAChildThatIsGoneIsBegunAnew(t *testing.T) {
	p := New(1)
	defer p.Close()
	ctx := context.Background()
	_, err := p.Query(ctx, query(t, `.a + 1`), []byte(`{"a":1}`))
	require.NoError(t, err)
	c := <-p.idle
	require.NoError(t, c.cmd.Process.Kill())
	p.idle <- c
	v, err := p.Query(ctx, query(t, `.a + 1`), []byte(`{"a":1}`))
	require.NoError(t, err)
	assert.Equal(t, 2, v)
	late, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	_, err = p.Query(late, query(t, `def f: f; f`), []byte(`{}`))
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	p.Close()
	_, err = p.Query(ctx, query(t, `.a + 1`), []byte(`{"a":1}`))
	assert.ErrorContains(t, err, "stops")
}

// FuzzQuery holds that no query takes more than its child may, or keeps the next from its answer.
func FuzzQuery(f *testing.F) {
	for _, src := range []string{`.a`, `"x" * 1e9`, `[range(1e9)]`, `def f: f; f`, `[limit(3; repeat("y"))]`,
		`@base64d`, `.. | tostring`, `ltrimstr("x") | test("(a+)+$")`, `input`, `$__loc__`, `[paths] | flatten`} {
		f.Add(src, `{"a":["x",1,null]}`)
	}
	p := bounded(f, 1)
	one, err := reading.CompileQuery(".a + 1")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, src, output string) {
		q, err := reading.CompileQuery(src)
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		_, _ = p.Query(ctx, q, []byte(output))
		v, err := p.Query(context.Background(), one, []byte(`{"a":1}`))
		if err != nil || v != 2 {
			t.Fatalf("after %s: %v, %v", src, v, err)
		}
	})
}
