package listen

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/source"
)

// frames reads a stream to its end, and how often it was damaged.
func frames(r io.Reader) (out []string, damage []string) {
	f := newFramer(r, func(kind string) { damage = append(damage, kind) }, nil)
	for {
		body, err := f.next()
		if len(body) > 0 {
			out = append(out, string(body))
		}
		if err != nil {
			return out, damage
		}
	}
}

// counted writes a message with its length before it.
func counted(text string) string { return fmt.Sprintf("%d %s", len(text), text) }

func TestFrames(t *testing.T) {
	long := "<1>" + strings.Repeat("x", source.MaxSyslog+100)
	for _, c := range []struct {
		stream string
		want   []string
		damage []string
	}{
		{"8 <1>hello6 <2>abc", []string{"<1>hello", "<2>abc"}, nil},
		{"8 <1>hello\n6 <2>abc\x00", []string{"<1>hello", "<2>abc"}, nil},
		{"<1>a\n<2>b\r\n<3>c", []string{"<1>a", "<2>b", "<3>c"}, nil},
		{"8 <1>hello\n<1>a\n5 <1>ab", []string{"<1>hello", "<1>a", "<1>ab"}, nil},
		{"", nil, nil},
		{"\n\n\n", nil, nil},
		// Lines may begin with a number.
		{"2026-11-29 10:00 a\n2026-11-29 10:01 b\n", []string{"2026-11-29 10:00 a", "2026-11-29 10:01 b"}, nil},
		{"1x2 a", []string{"1x2 a"}, nil},
		{"12345678901 <1>a", []string{"12345678901 <1>a"}, nil},
		// A length that is too large swallows nothing, and one that is too small leaves nothing out.
		{"14 <1>hello6 <2>abc6 <2>abc", []string{"<1>hello", "<2>abc", "<2>abc"}, []string{wrongCount}},
		{"6 <1>hello6 <2>abc", []string{"<1>hello", "<2>abc"}, []string{wrongCount}},
		{"99 <1>short", []string{"<1>short"}, []string{cutShort}},
		{"99 <1>short6 <2>abc", []string{"<1>short", "<2>abc"}, []string{cutShort}},
		{"8 <1>helloand more6 <2>abc", []string{"<1>helloand more", "<2>abc"}, []string{wrongCount}},
		// What looks like a length within a message is none where that is as long as it says.
		{counted("<1>port 5 <7> is up") + counted("<2>b"), []string{"<1>port 5 <7> is up", "<2>b"}, nil},
		{long + "\n<2>b", []string{long[:source.MaxSyslog], "<2>b"}, []string{tooLong}},
		{counted(long) + counted("<2>b"), []string{long[:source.MaxSyslog], "<2>b"}, []string{tooLong, tooLong}},
	} {
		got, damage := frames(strings.NewReader(c.stream))
		assert.Equal(t, c.want, got, "%.60q", c.stream)
		assert.Equal(t, c.damage, damage, "%.60q", c.stream)
		got, damage = frames(iotest.OneByteReader(strings.NewReader(c.stream)))
		assert.Len(t, damage, len(c.damage), "byte by byte: %.60q", c.stream)
		for i, want := range c.want {
			// What is more than its length says is seen only where it is there already.
			assert.True(t, i < len(got) && got[i] != "" && strings.HasPrefix(want, got[i]), "byte by byte: %.60q: %q",
				c.stream, got)
		}
	}
}

// TestDamageCostsWhatIsDamaged writes streams as a reference does, damages one message of twelve, and wants nearly
// every other one to be heard word for word, and the damage to be noticed. Not all: digits before a length that was
// lost with its message can make another length of it, and several damages in a row can look like one long message.
func TestDamageCostsWhatIsDamaged(t *testing.T) {
	seed := uint64(time.Now().UnixNano()) //nolint:gosec // any number will do
	r := rand.New(rand.NewPCG(seed, 1))   //nolint:gosec // no secret
	all, lost, unnoticed := 0, 0, 0
	const streams = 2000
	for i := range streams {
		stream, sound, damaged := damagedStream(r)
		var in io.Reader = bytes.NewReader(stream)
		if i%2 == 0 {
			in = iotest.HalfReader(in)
		}
		got, damage := frames(in)
		for _, text := range sound {
			all++
			if !slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, text) }) {
				lost++
			}
		}
		if damaged > 0 && len(damage) == 0 {
			unnoticed++
		}
		require.LessOrEqual(t, len(damage), 3*damaged, "more damage than there is: %q", stream)
	}
	t.Logf("of %d sound messages %d were lost; of %d streams the damage of %d was not noticed", all, lost, streams,
		unnoticed)
	assert.Less(t, lost*200, all, "seed %d", seed)
	assert.Less(t, unnoticed*100, streams, "seed %d", seed)
}

// damagedStream writes forty messages, and damages some.
func damagedStream(r *rand.Rand) (stream []byte, sound []string, damaged int) {
	b := &bytes.Buffer{}
	for i := range 40 {
		text := fmt.Sprintf("<%d>m%d of gate-%d: %s.", r.IntN(192), i, r.IntN(30), strings.Repeat("word ", r.IntN(20)))
		if r.IntN(12) > 0 {
			sound = append(sound, text)
			b.WriteString(counted(text))
			continue
		}
		damaged++
		switch r.IntN(4) {
		case 0:
			fmt.Fprintf(b, "%d %s", len(text)+1+r.IntN(200), text)
		case 1:
			fmt.Fprintf(b, "%d %s", len(text)-1-r.IntN(len(text)-2), text)
		case 2:
			fmt.Fprintf(b, "%d %s", len(text), text[:1+r.IntN(len(text)-1)])
		default:
			sound = append(sound, text)
			fmt.Fprint(b, counted(text), "no message at all, ")
		}
	}
	return b.Bytes(), sound, damaged
}

// Patience has an end: what came of a damaged message is given, and the stream goes on.
func TestAStreamGoesOnAfterWaiting(t *testing.T) {
	here, there := net.Pipe()
	defer there.Close()
	f := newFramer(here, func(string) {}, func(d time.Duration) {
		until := time.Time{}
		if d > 0 {
			until = time.Now().Add(min(d, 200*time.Millisecond))
		}
		assert.NoError(t, here.SetReadDeadline(until))
	})
	for _, sent := range []string{"6 <1>hello", "99 <1>hello", "7 <1>hell", "9 <1>gate-5"} {
		go there.Write([]byte(sent)) //nolint:errcheck // what is missing is missed below
		got, err := f.next()
		require.NoError(t, err, sent)
		assert.Equal(t, sent[strings.IndexByte(sent, ' ')+1:], string(got))
	}
}

func FuzzFrame(f *testing.F) {
	f.Add([]byte("8 <1>hello6 <2>abc<1>x\n"))
	f.Add([]byte("14 <1>hello6 <2>abc6 <2>abc"))
	f.Fuzz(func(t *testing.T, stream []byte) {
		got, _ := frames(bytes.NewReader(stream))
		n := 0
		for _, b := range got {
			n += len(b)
			require.LessOrEqual(t, len(b), source.MaxSyslog)
		}
		require.LessOrEqual(t, n, len(stream), "nothing is made up")
	})
}
