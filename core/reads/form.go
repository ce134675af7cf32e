package reads

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// form is one way of calling a program that reads.
type form struct {
	elsewhere bool
	// but: whatever words there are but these options; nil where options and words are listed.
	but []string
	any bool
	// flags take no value, valued do.
	flags, valued []string
	words         []wordForm
}

// wordForm is what one word, or the rest of them, may be.
type wordForm struct {
	one    []string // one of these
	prefix string   // or any that begins so; "" any that does not begin with a dash
	rest   bool     // and all that follow too
}

var (
	errForm = errors.New("a form is PROGRAM: and its words")
	// programPattern is what a program may be called; a ^ says that it acts elsewhere.
	programPattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]*\^?$`)
	optionPattern  = regexp.MustCompile(`^--?[A-Za-z0-9][A-Za-z0-9-]*=?$`)
	wordPattern    = regexp.MustCompile(`^\+?[A-Za-z0-9_./:@-]*\*{0,2}$`)
)

// Add adds a form: `PROGRAM|PROGRAM: WORDS`, where a program that ends in ^ acts on other hosts. WORDS are
//
//	any                 any words
//	any! -x --long      any words but these options, alone, in a cluster, with a value, or as a prefix of a long one
//	-x --long           these options, and no others; -x= and --long= take a value
//	(a|b) c             words that stand as they are
//	* ** +* http*       one word, all others, one that begins so: none of them begins with a dash
func (s *Set) Add(line string) error {
	names, spec, ok := strings.Cut(line, ":")
	if !ok {
		return errForm
	}
	var programs []string
	f := form{}
	for _, n := range strings.Split(names, "|") {
		if n = strings.TrimSpace(n); !programPattern.MatchString(n) {
			return fmt.Errorf("%q is no name of a program", n)
		}
		bare := strings.TrimSuffix(n, "^")
		f.elsewhere = f.elsewhere || bare != n
		programs = append(programs, bare)
	}
	if err := f.read(strings.Fields(spec)); err != nil {
		return err
	}
	for _, n := range programs {
		s.forms[n] = append(s.forms[n], f)
	}
	return nil
}

func (f *form) read(spec []string) error {
	if len(spec) > 0 && (spec[0] == "any" || spec[0] == "any!") {
		f.any, f.but = true, spec[1:]
		for _, o := range f.but {
			if !optionPattern.MatchString(o) || strings.HasSuffix(o, "=") {
				return fmt.Errorf("%q is no option", o)
			}
		}
		if (spec[0] == "any!") != (len(f.but) > 0) {
			return errors.New("any is any word, any! any but the options after it")
		}
		return nil
	}
	for _, w := range spec {
		switch {
		case optionPattern.MatchString(w) && strings.HasSuffix(w, "="):
			f.valued = append(f.valued, strings.TrimSuffix(w, "="))
		case optionPattern.MatchString(w):
			f.flags = append(f.flags, w)
		default:
			word, err := readWord(w)
			if err != nil {
				return err
			}
			if n := len(f.words); n > 0 && f.words[n-1].rest {
				return errors.New("nothing stands after **")
			}
			f.words = append(f.words, word)
		}
	}
	return nil
}

func readWord(w string) (wordForm, error) {
	if inner, ok := strings.CutPrefix(w, "("); ok && strings.HasSuffix(inner, ")") {
		return wordForm{one: strings.Split(strings.TrimSuffix(inner, ")"), "|")}, nil
	}
	switch {
	case w == "**":
		return wordForm{rest: true}, nil
	case !wordPattern.MatchString(w) || strings.HasSuffix(w, "**"):
		return wordForm{}, fmt.Errorf("%q is no word of a form", w)
	case strings.HasSuffix(w, "*"):
		return wordForm{prefix: strings.TrimSuffix(w, "*")}, nil
	}
	return wordForm{one: []string{w}}, nil
}

// fits reports whether words are of the form.
func (f *form) fits(words []string) bool {
	if f.any {
		return !slices.ContainsFunc(words, f.barred)
	}
	at := 0
	for i := 0; i < len(words); i++ {
		w := words[i]
		if strings.HasPrefix(w, "-") && w != "-" {
			used, ok := f.option(w, words[i+1:])
			if !ok {
				return false
			}
			i += used
			continue
		}
		if at == len(f.words) || !f.words[at].takes(w) {
			return false
		}
		if !f.words[at].rest {
			at++
		}
	}
	return at == len(f.words) || at == len(f.words)-1 && f.words[at].rest
}

// barred reports whether a word is, or may hide, one of the options that are left out. A word after -- could only be
// taken for a name, and is judged all the same.
func (f *form) barred(w string) bool {
	if !strings.HasPrefix(w, "-") {
		return false // a hole, too: it is asked again when it is filled
	}
	long, _, _ := strings.Cut(w, "=")
	for _, o := range f.but {
		switch {
		case strings.HasPrefix(o, "--"):
			// Programs take any beginning of a long option for it.
			if strings.HasPrefix(long, "--") && len(long) > 2 && strings.HasPrefix(o, long) {
				return true
			}
		case len(o) > 2: // such as -delete of find
			if w == o {
				return true
			}
		case !strings.HasPrefix(w, "--") && strings.Contains(w[1:], o[1:]):
			return true // in a cluster; one that has it as a value is not told from it
		}
	}
	return strings.Contains(w, Hole)
}

// option reports whether a word is one of the form's options, and how many words after it are its value.
func (f *form) option(w string, after []string) (used int, ok bool) {
	if slices.Contains(f.flags, w) {
		return 0, true
	}
	if name, value, has := strings.Cut(w, "="); has && strings.HasPrefix(w, "--") {
		return 0, slices.Contains(f.valued, name) && value != ""
	}
	if slices.Contains(f.valued, w) {
		return 1, len(after) > 0 && !strings.HasPrefix(after[0], "-")
	}
	if strings.HasPrefix(w, "--") {
		return 0, false
	}
	// A cluster: flags of one letter, of which the last may have its value behind it.
	for i, c := range w[1:] {
		o := "-" + string(c)
		if slices.Contains(f.valued, o) {
			if i == len(w)-2 {
				return 1, len(after) > 0 && !strings.HasPrefix(after[0], "-")
			}
			return 0, true
		}
		if !slices.Contains(f.flags, o) {
			return 0, false
		}
	}
	return 0, true
}

func (w wordForm) takes(word string) bool {
	if len(w.one) > 0 {
		return slices.Contains(w.one, word)
	}
	return strings.HasPrefix(word, w.prefix) && (w.prefix != "" || word != "")
}
