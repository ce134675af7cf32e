package expr

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestOddOnes(t *testing.T) {
	for name, c := range map[string]struct {
		values map[string]float64
		want   []Odd
	}{
		"too few":         {map[string]float64{"a": 1, "b": 99}, nil},
		"all alike":       {map[string]float64{"a": 1, "b": 1, "c": 1}, nil},
		"others the same": {map[string]float64{"a": 0, "b": 0, "c": 0, "d": 44}, []Odd{{"d", 44, 0, 0, 0}}},
		"one far away":    {map[string]float64{"a": 2, "b": 3, "c": 4, "d": 97, "e": 3}, []Odd{{"d", 97, 2, 3, 4}}},
		"a little apart":  {map[string]float64{"a": 2, "b": 3, "c": 4, "d": 5, "e": 3}, nil},
		"two of eight": {map[string]float64{"a": 0, "b": 0, "c": 7, "d": 0, "e": 0, "f": 0, "g": 7, "h": 0},
			[]Odd{{"c", 7, 0, 0, 0}, {"g", 7, 0, 0, 0}}},
		"one far off, one not quite the same": {map[string]float64{"a": 0, "b": 0, "c": 1, "d": 0, "e": 44},
			[]Odd{{"e", 44, 0, 0, 1}}},
		"two of five":  {map[string]float64{"a": 0, "b": 0, "c": 7, "d": 7, "e": 0}, nil},
		"half of them": {map[string]float64{"a": 0, "b": 0, "c": 90, "d": 90}, nil},
	} {
		assert.Equal(t, c.want, OddOnes(c.values), name)
	}
}
