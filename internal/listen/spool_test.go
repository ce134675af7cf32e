package listen

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func opened(t require.TestingT, dir string, most int64) *spool {
	s, err := openSpool(dir, most)
	require.NoError(t, err)
	return s
}

func bodies(records []given) []string {
	out := make([]string, len(records))
	for i, r := range records {
		out[i] = string(r.body)
	}
	return out
}

func texts(records [][]byte) []string {
	out := make([]string, len(records))
	for i, r := range records {
		out[i] = string(r)
	}
	return out
}

// Whatever is appended, read, taken back, cut off by a crash and opened again: what was appended and not done is given
// in its order, and nothing else is lost or made up.
func TestSpoolAgainstASlowReference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "spool")
		require.NoError(t, err)
		defer os.RemoveAll(dir) //nolint:errcheck // a test's
		most := int64(rapid.SampledFrom([]int{400, 4000, 1 << 20}).Draw(t, "most"))
		s := opened(t, dir, most)
		var waiting []string // appended and not done
		read := 0            // of those
		var ends []Place     // of what was read
		n := 0
		t.Repeat(map[string]func(*rapid.T){
			"append": func(t *rapid.T) {
				var batch [][]byte
				for range rapid.IntRange(1, 5).Draw(t, "records") {
					n++
					batch = append(batch, []byte(fmt.Sprintf("%d%s", n, strings.Repeat("x", rapid.IntRange(0, 90).Draw(t, "x")))))
				}
				kept, err := s.Append(batch)
				if kept < len(batch) {
					require.ErrorIs(t, err, errFull)
					require.Greater(t, s.total, most-100-headSize, "it was refused where there was room")
				} else {
					require.NoError(t, err)
				}
				waiting = append(waiting, texts(batch[:kept])...)
				require.LessOrEqual(t, s.total, most)
			},
			"next": func(t *rapid.T) {
				got, _, err := s.Next(rapid.IntRange(1, 7).Draw(t, "most"))
				require.NoError(t, err)
				require.Equal(t, append([]string{}, waiting[read:read+len(got)]...), bodies(got))
				for _, g := range got {
					ends = append(ends, g.end)
				}
				require.True(t, len(got) > 0 || read == len(waiting), "nothing is given and something waits")
				read += len(got)
			},
			"done": func(t *rapid.T) {
				if read > 0 {
					require.NoError(t, s.Done(ends[read-1]))
					waiting, read, ends = waiting[read:], 0, nil
				}
			},
			// What was kept with how far it is taken goes on there, whatever was read or said to be done.
			"seek": func(t *rapid.T) {
				read = rapid.IntRange(0, read).Draw(t, "taken")
				ends = ends[:read]
				at := s.At()
				if read > 0 {
					at = ends[read-1]
				}
				got, known := s.Seek(at)
				require.True(t, known || read == 0 && len(waiting) == 0)
				require.GreaterOrEqual(t, got.File, at.File)
			},
			"crash": func(t *rapid.T) {
				require.NoError(t, s.write.Close()) // what a process leaves when it is killed
				if cut := rapid.IntRange(0, 60).Draw(t, "half-written"); cut > 0 {
					f, err := os.OpenFile(s.path(s.last), os.O_APPEND|os.O_WRONLY, 0)
					require.NoError(t, err)
					_, err = f.Write(bytes.Repeat([]byte{7}, cut))
					require.NoError(t, err)
					require.NoError(t, f.Close())
				}
				s, read, ends = opened(t, dir, most), 0, nil
				_, _ = s.Seek(s.At())
			},
			"": func(t *rapid.T) {
				require.Equal(t, len(waiting) == 0, s.Waiting() == 0)
			},
		})
		_, _ = s.Seek(s.At())
		read = 0
		for {
			got, at, err := s.Next(3)
			require.NoError(t, err)
			require.Equal(t, append([]string{}, waiting[read:read+len(got)]...), bodies(got))
			if len(got) == 0 {
				break
			}
			read += len(got)
			require.NoError(t, s.Done(at))
			waiting, read = waiting[read:], 0
		}
		require.Empty(t, waiting)
		require.NoError(t, s.Close())
	})
}

// What is damaged on disk costs the rest of its file, and says so; what follows is given.
func TestDamagedSpool(t *testing.T) {
	dir := t.TempDir()
	s := opened(t, dir, 400)
	for i := range 4 {
		_, err := s.Append([][]byte{[]byte(fmt.Sprintf("%d%s", i, strings.Repeat("x", 60)))})
		require.NoError(t, err)
	}
	require.NoError(t, s.Close())
	files, err := filepath.Glob(filepath.Join(dir, "*.seg"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 2)
	b, err := os.ReadFile(files[0])
	require.NoError(t, err)
	b[20] ^= 1
	require.NoError(t, os.WriteFile(files[0], b, 0o600))
	s = opened(t, dir, 400)
	var got []string
	for {
		records, end, err := s.Next(10)
		require.NoError(t, err)
		got = append(got, bodies(records)...)
		require.NoError(t, s.Done(end))
		if s.Waiting() == 0 {
			break
		}
	}
	assert.NotEmpty(t, got)
	assert.Positive(t, s.Unreadable())
	assert.NotContains(t, strings.Join(got, " "), "0xx")
	assert.Contains(t, got[len(got)-1], "3xx")
}
