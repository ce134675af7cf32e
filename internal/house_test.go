// Package internal has no code; this test holds the tree to the map in docs/architecture.md.
package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sources calls f with each file of the program under a folder, without its tests.
func sources(t *testing.T, folder string, f func(path, text string)) {
	n := 0
	require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		n++
		f(path, string(b))
		return err
	}))
	assert.NotZero(t, n, folder)
}

// ownDatabases are what speaks SQL and is not our record: a look's statement, the demo's fares, servers that are
// started.
var ownDatabases = []string{"act/sqlquery/", "demo/fares", "localdb/", "testdb/", "store/"}

func TestSQLStandsInTheStoreAlone(t *testing.T) {
	statement := regexp.MustCompile("[\"`](select |insert into |update [a-z]+ set|delete from |lock table )")
	sources(t, ".", func(path, text string) {
		for _, own := range ownDatabases {
			if strings.HasPrefix(path, own) {
				return
			}
		}
		assert.NotContains(t, text, `"gorm.io/`, path)
		assert.NotRegexp(t, statement, text, path)
	})
}

// The map shows each room that there is, and no other.
func TestTheMapIsTrue(t *testing.T) {
	text, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	_, tree, found := strings.Cut(string(text), "```\n")
	require.True(t, found)
	tree, _, found = strings.Cut(tree, "```\n")
	require.True(t, found)
	drawn, in := map[string][]string{}, ""
	house, room := regexp.MustCompile(`^([a-z]+)/`), regexp.MustCompile(`^  ([a-z]+)/ `)
	for line := range strings.Lines(tree) {
		if m := house.FindStringSubmatch(line); m != nil {
			in = m[1]
		} else if m := room.FindStringSubmatch(line); m != nil {
			drawn[in] = append(drawn[in], m[1])
		}
	}
	for _, folder := range []string{"core", "internal"} {
		entries, err := os.ReadDir(filepath.Join("..", folder))
		require.NoError(t, err)
		var rooms []string
		for _, e := range entries {
			if e.IsDir() && e.Name() != "testdata" {
				rooms = append(rooms, e.Name())
			}
		}
		assert.ElementsMatch(t, rooms, drawn[folder], folder)
	}
}

// What came of a request is said by the constructors of internal/act alone, so that past the last moment before it
// leaves nobody can say that nothing was begun.
func TestOnlyConstructorsSayWhatCameOfARequest(t *testing.T) {
	for _, folder := range []string{"act", "engine"} {
		sources(t, folder, func(path, text string) {
			assert.NotContains(t, text, "act.Result{", path)
		})
	}
}

func TestHandlersTranslateAndNothingElse(t *testing.T) {
	sources(t, "server", func(path, text string) {
		for _, not := range []string{"store.Store", "store.Tx", ".Audit(", "engine.Sheet", "engine.Engine"} {
			assert.NotContains(t, text, not, path)
		}
	})
}

// A function is as long as one thought. One is a list: of all functions of the language.
func TestFunctionsAreNotTooLong(t *testing.T) {
	const most = 120
	lists := map[string]bool{"ourFunctions": true}
	for _, folder := range []string{"../core", "."} {
		sources(t, folder, func(path, text string) {
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, text, 0)
			require.NoError(t, err)
			for _, d := range file.Decls {
				f, ok := d.(*ast.FuncDecl)
				if !ok || lists[f.Name.Name] {
					continue
				}
				lines := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1
				assert.LessOrEqual(t, lines, most, "%s: %s", path, f.Name.Name)
			}
		})
	}
}

// What is kept is dated by the time of the database (store.Clock): the clock of a machine may step. Where a machine's
// own is read it times what this process does, or speaks to somebody on its network.
func TestTimeIsTheDatabases(t *testing.T) {
	own := []string{"store/clock.go", "store/store.go", "engine/engine.go", "engine/beats.go", "engine/clock.go",
		"engine/rest.go", "app/passing.go", "connect/syslog.go", "server/stream.go", "server/server.go", "server/bodies.go"}
	rooms := []string{"act/", "cli/", "demo/", "listen/", "localdb/", "testapi/", "testbooks/", "testdb/", "testpeers/"}
	sources(t, ".", func(path, text string) {
		within := func(room string) bool { return strings.HasPrefix(path, room) }
		if slices.Contains(own, path) || slices.ContainsFunc(rooms, within) {
			return
		}
		assert.NotContains(t, text, "time.Now()", path)
	})
}

// A line has at most 120 columns, a tab counting as four. In tests a literal may be longer than its line.
func TestLinesAreNotTooLong(t *testing.T) {
	literal := regexp.MustCompile("[\"`].{20}")
	for _, folder := range []string{"../api", "../build", "../cmd", "../core", ".", "../test"} {
		require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, ".gen.go") {
				return err
			}
			b, err := os.ReadFile(path)
			for n, line := range strings.Split(string(b), "\n") {
				wide := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")) > 120
				if wide && !(strings.HasSuffix(path, "_test.go") && literal.MatchString(line)) {
					assert.Fail(t, "too long", "%s:%d", path, n+1)
				}
			}
			return err
		}))
	}
}
