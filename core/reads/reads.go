package reads

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Set is what is known to read.
type Set struct {
	forms   map[string][]form
	scripts map[string]bool
}

// Builtin is the set that is known without anybody's word.
func Builtin() *Set {
	s := &Set{forms: map[string][]form{}, scripts: map[string]bool{}}
	for line := range strings.Lines(table) {
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		if err := s.Add(line); err != nil {
			panic(err) // it is ours
		}
	}
	return s
}

// Clone is a set of its own with what this one knows.
func (s *Set) Clone() *Set {
	out := &Set{forms: map[string][]form{}, scripts: map[string]bool{}}
	for n, f := range s.forms {
		out.forms[n] = slices.Clone(f)
	}
	for d := range s.scripts {
		out.scripts[d] = true
	}
	return out
}

// Digest is by what a script is known: the SHA-256 of its text, without the blanks at its end.
func Digest(script string) string {
	sum := sha256.Sum256([]byte(strings.TrimRight(script, " \t\r\n")))
	return "sha256:" + hex.EncodeToString(sum[:])
}

// AddScript takes a script for one that only reads, by its Digest.
func (s *Set) AddScript(digest string) { s.scripts[digest] = true }

// Script reports whether a script is known to read; env are the names that are set for it, of which none may change how
// its interpreter, or what it calls, is found and begun.
func (s *Set) Script(text string, env []string) bool {
	return s.scripts[Digest(text)] && !slices.ContainsFunc(env, func(name string) bool {
		return steers.MatchString(name)
	})
}

// steers are the names in the environment by which an interpreter, or what it calls, is found or begun in another way.
var steers = regexp.MustCompile(`^(PATH|IFS|ENV|BASH_ENV|(LD_|PYTHON|PERL|RUBY|NODE).*)$`)

// Verdict is what is known of a command.
type Verdict int

const (
	// Unknown: of the program nothing is known, or not where it stands.
	Unknown Verdict = iota
	// Reads: it only reads.
	Reads
	// Alters: the program is known, and these words of it are not known to read.
	Alters
	// Elsewhere is Alters of a program that acts on other hosts, where no account of the target's holds it back.
	Elsewhere
)

// Hole stands in a command for a word that is not known yet, as it is filled with a value later. It may not begin with
// a dash then: the whole command is asked about once more when it is there.
const Hole = "\x00"

// systemPaths are where programs of the system are.
var systemPaths = []string{"/bin", "/sbin", "/usr/bin", "/usr/sbin"}

// harmless are the names in the environment that no program takes for more than how to print.
func harmless(name string) bool {
	return name == "LANG" || name == "TZ" || name == "COLUMNS" || strings.HasPrefix(name, "LC_")
}

// Command tells what is known of a command: its words, and the names that are set in its environment. why says it in a
// sentence without a full stop; "" for Reads.
func (s *Set) Command(words []string, env []string) (v Verdict, why string) {
	if len(words) == 0 {
		return Unknown, "there is no command"
	}
	name := path.Base(words[0])
	if at := strings.Contains(words[0], "/"); at && !slices.Contains(systemPaths, path.Dir(words[0])) ||
		strings.Contains(words[0], Hole) {
		return Unknown, "nothing is known of " + strings.ReplaceAll(words[0], Hole, "…")
	}
	forms := s.forms[name]
	if len(forms) == 0 {
		return Unknown, "nothing is known of " + name
	}
	for _, e := range env {
		if !harmless(e) {
			return Unknown, fmt.Sprintf("%s with %s set may do something else", name, e)
		}
	}
	verdict := Alters
	for _, f := range forms {
		if f.fits(words[1:]) {
			return Reads, ""
		}
		if f.elsewhere {
			verdict = Elsewhere
		}
	}
	return verdict, fmt.Sprintf("%s with these words is not known to only read", name)
}

// Program reports whether anything is known of a program.
func (s *Set) Program(name string) bool { return len(s.forms[path.Base(name)]) > 0 }

// Extension is what else is known to read, by the word of whoever may say so.
type Extension struct {
	// Forms are as Add reads them, Scripts digests.
	Forms, Scripts []string
}

// Extend adds what an extension knows.
func (s *Set) Extend(e *Extension) error {
	for _, f := range e.Forms {
		if err := s.Add(f); err != nil {
			return err
		}
	}
	for _, d := range e.Scripts {
		s.AddScript(d)
	}
	return nil
}

// Lines is a set of lines that are typed on devices: forms whose first word stands where a program's name does.
func Lines(forms []string) (*Set, error) {
	s := &Set{forms: map[string][]form{}, scripts: map[string]bool{}}
	for _, f := range forms {
		first, rest, _ := strings.Cut(strings.TrimSpace(f), " ")
		if err := s.Add(first + ": " + rest); err != nil {
			return nil, err
		}
	}
	return s, nil
}
