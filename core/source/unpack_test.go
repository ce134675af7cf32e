package source

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func packed(t require.TestingT, body []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(body)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func TestACompressedBody(t *testing.T) {
	p := Payload{ContentType: "application/json", Headers: map[string]string{"content-encoding": "gzip", "x": "y"},
		Body: packed(t, []byte(`{"a":1}`))}
	got, err := p.Unpacked()
	require.NoError(t, err)
	assert.JSONEq(t, `{"a":1}`, string(got.Body))
	assert.Equal(t, map[string]string{"x": "y"}, got.Headers)
	for says, bad := range map[string]Payload{
		"is no gzip":   {Headers: map[string]string{"content-encoding": "gzip"}, Body: []byte("no")},
		"ends too":     {Headers: p.Headers, Body: p.Body[:len(p.Body)-6]},
		"comes as br":  {Headers: map[string]string{"content-encoding": "br"}},
		"more than 10": {Headers: p.Headers, Body: packed(t, make([]byte, 2*MaxUnpacked))},
	} {
		got, err := bad.Unpacked()
		assert.ErrorContains(t, err, says)
		assert.Equal(t, bad.Body, got.Body, "it is kept as it came")
	}
}

// Whatever text JSON holds is the same without what cannot be kept.
func TestNoNULIsLeft(t *testing.T) {
	for in, want := range map[string]string{
		`"x\u0000y"`: "x\uFFFDy", `"\\u0000"`: `\u0000`, `"\\\u0000"`: "\\\uFFFD", `"\n\u0001"`: "\n\x01",
	} {
		var got string
		require.NoError(t, json.Unmarshal(withoutNUL([]byte(in)), &got), in)
		assert.Equal(t, want, got, in)
	}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.String().Draw(t, "text")
		body, err := json.Marshal(text)
		require.NoError(t, err)
		var got string
		require.NoError(t, json.Unmarshal(withoutNUL(body), &got))
		assert.NotContains(t, got, "\x00")
		assert.Equal(t, string(bytes.ReplaceAll([]byte(text), []byte{0}, []byte("\uFFFD"))), got)
	})
}
