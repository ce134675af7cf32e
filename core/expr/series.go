package expr

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// ErrUnsure marks a value that cannot be said because evidence is missing.
// A condition that meets it is neither true nor false.
var ErrUnsure = errors.New("evidence is missing")

// Sample is one value of a reading, taken on one target at one time.
type Sample struct {
	Value  any       `json:"value"`
	Unit   string    `json:"unit,omitempty"`
	Target string    `json:"target"`
	At     time.Time `json:"at"`
}

// Round is one time that a reading was asked of a set of targets.
// A target in Asked without a taking did not answer.
type Round struct {
	Seq int64
	// Path is the place of the step that asked, No its how-manieth time.
	Path string
	No   string
	// Group names the rounds that count as one, because they were taken for the items of one each.
	Group string
	// Change tells where the change of its group began, before which before() goes back; it is asked of groups only.
	Change  func() int64
	Asked   []string
	Samples map[string]Sample
}

// Series is everything known of one reading: each round, oldest first.
type Series struct {
	Name   string
	Rounds []Round
	// ChangeSeq is where in the log the newest change on this path began; 0 without one.
	ChangeSeq int64
	// Own is the target at hand; empty outside of one.
	Own string
	// Item is set where an item of an each is at hand: what one target gave is its own.
	Item bool
	now  time.Time
	// narrowed is the round that functions speak of instead of the newest; see back.
	narrowed *Round
}

// ReadingType is the CEL type name of a reading.
const ReadingType = "reading"

var seriesType = types.NewOpaqueType(ReadingType)

// ConvertToNative implements ref.Val.
func (s *Series) ConvertToNative(t reflect.Type) (any, error) {
	if t == reflect.TypeOf(s) {
		return s, nil
	}
	return nil, fmt.Errorf("a reading is not a %v", t)
}

// ConvertToType implements ref.Val.
func (s *Series) ConvertToType(t ref.Type) ref.Val {
	if t == types.TypeType {
		return seriesType
	}
	return types.NewErr("a reading cannot become a %s", t.TypeName())
}

// Equal implements ref.Val; readings are the same only when they are one.
func (s *Series) Equal(other ref.Val) ref.Val {
	o, ok := other.(*Series)
	return types.Bool(ok && o == s)
}

// Type implements ref.Val.
func (s *Series) Type() ref.Type { return seriesType }

// Value implements ref.Val.
func (s *Series) Value() any { return s }

// newest is the round that was taken last; of a group, the last of each of its places together.
func (s *Series) newest() (*Round, error) {
	if s.narrowed != nil {
		return s.narrowed, nil
	}
	if len(s.Rounds) == 0 {
		return nil, fmt.Errorf("%w: reading %s was not taken", ErrUnsure, s.Name)
	}
	last := &s.Rounds[len(s.Rounds)-1]
	if last.Group == "" {
		return last, nil
	}
	newest := map[string]*Round{}
	var order []string
	for i := range s.Rounds {
		if r := &s.Rounds[i]; r.Group == last.Group {
			if newest[r.Path] == nil {
				order = append(order, r.Path)
			}
			newest[r.Path] = r
		}
	}
	out := &Round{Seq: last.Seq, Group: last.Group, Samples: map[string]Sample{}}
	for _, p := range order {
		for _, t := range newest[p].Asked {
			if _, known := out.Samples[t]; !known && !slices.Contains(out.Asked, t) {
				out.Asked = append(out.Asked, t)
			}
			if v, ok := newest[p].Samples[t]; ok {
				out.Samples[t] = v
			}
		}
	}
	return out, nil
}

// Oldest is when the oldest of the newest samples was taken; false where one is missing.
func (s *Series) Oldest() (time.Time, bool) {
	r, err := s.complete()
	if err != nil {
		return time.Time{}, false
	}
	var oldest time.Time
	for _, t := range r.Samples {
		if oldest.IsZero() || t.At.Before(oldest) {
			oldest = t.At
		}
	}
	return oldest, true
}

// complete is the newest round if every target that was asked answered, and at least one was.
func (s *Series) complete() (*Round, error) {
	r, err := s.newest()
	if err != nil {
		return nil, err
	}
	if len(r.Asked) == 0 {
		return nil, fmt.Errorf("%w: reading %s was asked of no target", ErrUnsure, s.Name)
	}
	var silent []string
	for _, t := range r.Asked {
		if _, ok := r.Samples[t]; !ok {
			silent = append(silent, orHere(t))
		}
	}
	if len(silent) > 0 {
		sort.Strings(silent)
		return nil, fmt.Errorf("%w: no %s from %s", ErrUnsure, s.Name, strings.Join(silent, ", "))
	}
	return r, nil
}

// list gives the samples of a complete newest round, by target.
func (s *Series) list() ([]Sample, error) {
	r, err := s.complete()
	if err != nil {
		return nil, err
	}
	return r.ordered(), nil
}

func (r *Round) ordered() []Sample {
	out := make([]Sample, 0, len(r.Samples))
	for _, t := range r.Asked {
		if v, ok := r.Samples[t]; ok {
			out = append(out, v)
		}
	}
	return out
}

// own gives the newest taking of the target at hand.
func (s *Series) own() (Sample, error) {
	r, err := s.newest()
	if err != nil {
		return Sample{}, err
	}
	if t, ok := r.Samples[s.Own]; ok {
		return t, nil
	}
	if s.Item && len(r.Asked) == 1 {
		if t, ok := r.Samples[r.Asked[0]]; ok {
			return t, nil
		}
	}
	return Sample{}, fmt.Errorf("%w: no %s from %s", ErrUnsure, s.Name, orHere(s.Own))
}

// back gives, per target, the last taking that keep accepts.
func (s *Series) back(keep func(i int, r Round) bool, what string) (*Series, error) {
	out := Round{Samples: map[string]Sample{}}
	seen := map[string]bool{}
	for i, r := range s.Rounds {
		if !keep(i, r) {
			continue
		}
		for _, t := range r.Asked {
			if !seen[t] {
				seen[t] = true
				out.Asked = append(out.Asked, t)
			}
		}
		for t, v := range r.Samples {
			out.Samples[t] = v
		}
	}
	if len(out.Asked) == 0 {
		return nil, fmt.Errorf("%w: reading %s was not taken %s", ErrUnsure, s.Name, what)
	}
	c := *s
	c.narrowed = &out
	return &c, nil
}

func (s *Series) before() (*Series, error) {
	return s.back(func(_ int, r Round) bool {
		change := s.ChangeSeq
		if r.Group != "" {
			change = r.Change()
		}
		return change == 0 || r.Seq < change
	}, "before the change")
}

func (s *Series) previous() (*Series, error) {
	last := map[string]int{}
	for i, r := range s.Rounds {
		key := ""
		if r.Group != "" {
			key = r.Path
		}
		last[key] = i
	}
	final := len(s.Rounds) - 1
	if final >= 0 && s.Rounds[final].Group == "" {
		return s.back(func(i int, _ Round) bool { return i < final }, "before the newest time")
	}
	return s.back(func(i int, r Round) bool { return i != last[r.Path] }, "before the newest time")
}

func orHere(target string) string {
	if target == "" {
		return "this host"
	}
	return target
}

// Newest gives the newest taking of each target asked; unsure where one is missing.
func (s *Series) Newest() ([]Sample, error) { return s.list() }
