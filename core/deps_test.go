// Package core holds the job itself; this test keeps it free of everything else.
package core

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Outside libraries that the core may stand on: expressions, YAML, XML, mail, syslog, schedules, turns and
// calendars, jq,
// canonical JSON, spelling.
var allowed = []string{
	"cel.dev/",
	"github.com/goccy/go-yaml",
	"github.com/itchyny/",
	"github.com/gowebpki/jcs",
	"github.com/clbanning/mxj/",
	"github.com/emersion/go-message",
	"github.com/leodido/go-syslog/",
	"github.com/robfig/cron/",
	"github.com/teambition/rrule-go",
	"github.com/emersion/go-ical",
	"github.com/agnivade/levenshtein",
	"github.com/santhosh-tekuri/jsonschema/",
	"github.com/antlr4-go/",
	"golang.org/x/",
	"google.golang.org/",
	"go.yaml.in/",
	"sigs.k8s.io/",
}

// Of the standard library, what does I/O. The jq and CEL libraries import some of it; the core itself must not.
var forbidden = []string{
	"net",
	"net/http",
	"os",
	"os/exec",
	"database/sql",
	"log/slog",
	"log",
	"math/rand",
	"math/rand/v2",
	"crypto/rand",
	"sync",
	"sync/atomic",
}

func TestTheCoreImportsNothingOfOurs(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "./...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(out)))
	n := 0
	for dec.More() {
		var p struct {
			ImportPath    string
			Imports, Deps []string
		}
		require.NoError(t, dec.Decode(&p))
		n++
		for _, i := range p.Imports {
			assert.NotContains(t, forbidden, i, p.ImportPath)
		}
		for _, d := range p.Deps {
			if strings.HasPrefix(d, "urgentis/") {
				// The library is texts and nothing else.
				ok := strings.HasPrefix(d, "urgentis/core/") || d == "urgentis/library"
				assert.True(t, ok, "%s needs %s", p.ImportPath, d)
			} else if strings.Contains(strings.SplitN(d, "/", 2)[0], ".") {
				ok := false
				for _, a := range allowed {
					ok = ok || strings.HasPrefix(d, a)
				}
				assert.True(t, ok, "%s needs %s", p.ImportPath, d)
			}
		}
	}
	assert.GreaterOrEqual(t, n, 8)
}
