package estate_test

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/estate"
)

// The schema for editors takes what the checker takes, and finds an unknown key.
func TestTheSchemaTakesWhatTheCheckerTakes(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(estate.Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("documents.json", doc))
	schema, err := c.Compile("documents.json")
	require.NoError(t, err)
	fits := func(text string) error {
		b, err := yaml.YAMLToJSON([]byte(text))
		require.NoError(t, err)
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
		require.NoError(t, err)
		return schema.Validate(v)
	}
	texts := []string{watch, "urgentis: source/1\nname: a\nproof: [basic, signed]\n"}
	for _, f := range []string{"sources/quay-panel.yaml", "sources/harbour-watch.yaml",
		"runbooks/berth-queue-backlog.yaml"} {
		b, err := os.ReadFile("../../examples/ferry/" + f)
		require.NoError(t, err)
		texts = append(texts, string(b))
	}
	for _, text := range texts {
		assert.NoError(t, fits(text), text)
	}
	for _, wrong := range []string{
		strings.Replace(watch, "ignore:", "ignor:", 1), strings.Replace(watch, "of: item.level, as",
			"off: item.level, as", 1),
		strings.Replace(watch, "  summary:", "  sumary:", 1), "urgentis: source/1", "name: a",
		"urgentis: source/1\nname: a\nproof: [bearr]\n",
	} {
		assert.Error(t, fits(wrong), wrong)
	}
}
