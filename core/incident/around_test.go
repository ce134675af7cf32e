package incident

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// What went bad first stands first, whatever the order in which it is given; services with nothing bad are left out.
func TestWide(t *testing.T) {
	d := NewDepends(map[string][]string{"gates": {"db", "clocks"}, "kiosks": {"gates"}, "other": nil})
	around := Around([]string{"gates"}, d)
	assert.Equal(t, []Relation{{"gates", ""}, {"db", DependsOn}, {"clocks", DependsOn}, {"kiosks", NeededBy}}, around)
	at := func(minutes int) time.Time { return time.Date(2026, 12, 1, 3, minutes, 0, 0, time.UTC) }
	wide := Wide(around, []BadThing{{ID: "3", Service: "kiosks", At: at(7)}, {ID: "1", Service: "gates", At: at(5)},
		{ID: "2", Service: "db", At: at(4)}, {ID: "0", Service: "gates", At: at(6)}, {ID: "9", Service: "other", At: at(1)}},
		map[string]int{"gates": 50})
	var names []string
	for _, a := range wide {
		names = append(names, a.Service)
	}
	assert.Equal(t, []string{"db", "gates", "kiosks"}, names)
	assert.Equal(t, at(5), wide[1].Since)
	assert.Equal(t, "1", wide[1].Things[0].ID)
	assert.Equal(t, 50, wide[1].Count)
	assert.Equal(t, 1, wide[0].Count)
	assert.Empty(t, Wide(around, nil, nil))
	// Circles do no harm, and no service comes twice.
	d = NewDepends(map[string][]string{"a": {"b"}, "b": {"a"}})
	assert.Equal(t, []Relation{{"a", ""}, {"b", DependsOn}}, Around([]string{"a", ""}, d))
}
