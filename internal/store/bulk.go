package store

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"

	"urgentis/core/alert"

	"gorm.io/gorm"
	"gorm.io/gorm/schema"
)

// Bulk collects rows of several kinds and writes them in one statement. Its text does not depend on how many there
// are: each column goes over as one array, so that the database plans the statement once. Numbers that the database
// gives out are left to it where no row has one.
type Bulk struct {
	tx    *Tx
	parts []string
	args  []any
}

// NewBulk begins to collect.
func NewBulk(tx *Tx) *Bulk { return &Bulk{tx: tx} }

// Add takes in rows of one kind.
func Add[T any](b *Bulk, rows []T) error {
	if len(rows) == 0 {
		return nil
	}
	cols, table, err := columnsOf(b.tx.db, rows[0])
	if err != nil {
		return err
	}
	all := reflect.ValueOf(rows)
	var names, froms, picks, aliases []string
	for i, c := range cols {
		values := reflect.MakeSlice(reflect.SliceOf(c.as), 0, len(rows))
		given := !c.optional
		for r := range rows {
			field := c.field.ReflectValueOf(b.tx.db.Statement.Context, reflect.Indirect(all.Index(r)))
			given = given || !field.IsZero()
			x, err := c.convert(field)
			if err != nil {
				return fmt.Errorf("write %s.%s: %w", table, c.field.DBName, err)
			}
			values = reflect.Append(values, x)
		}
		if !given {
			continue
		}
		alias := fmt.Sprintf("c%d", i)
		pick := "v." + alias
		if c.json {
			pick += "::jsonb"
		}
		names, froms = append(names, b.tx.db.Statement.Quote(c.field.DBName)), append(froms, "?::"+c.sql+"[]")
		picks, aliases = append(picks, pick), append(aliases, alias)
		b.args = append(b.args, array{values.Interface()})
	}
	b.parts = append(
		b.parts,
		fmt.Sprintf(
			"insert into %s (%s) select %s from unnest(%s) as v(%s)",
			b.tx.db.Statement.Quote(table),
			strings.Join(
				names,
				", ",
			),
			strings.Join(picks, ", "),
			strings.Join(froms, ", "),
			strings.Join(aliases, ", "),
		),
	)
	return nil
}

// Write writes all that was added.
func (b *Bulk) Write() error {
	if len(b.parts) == 0 {
		return nil
	}
	var text strings.Builder
	for i, p := range b.parts[:len(b.parts)-1] {
		fmt.Fprintf(&text, "%s p%d as (%s)", map[bool]string{true: "with", false: ","}[i == 0], i, p)
	}
	text.WriteString(" " + b.parts[len(b.parts)-1])
	err := b.tx.db.Exec(text.String(), b.args...).Error
	b.parts, b.args = nil, nil
	return err
}

// array is sent by the driver as one value.
type array struct{ slice any }

// Value implements driver.Valuer.
func (a array) Value() (driver.Value, error) { return a.slice, nil }

// column is one column of a model, and what its values go over as.
type column struct {
	field    *schema.Field
	as       reflect.Type
	sql      string
	json     bool // goes over as text
	clock    bool // goes over as a time, or as none
	optional bool // the database has a value of its own
}

var parsed sync.Map // reflect.Type -> []column

func columnsOf(tx *gorm.DB, row any) ([]column, string, error) {
	stmt := &gorm.Statement{DB: tx}
	if err := stmt.Parse(row); err != nil {
		return nil, "", err
	}
	if c, ok := parsed.Load(stmt.Schema.ModelType); ok {
		return c.([]column), stmt.Schema.Table, nil
	}
	var out []column
	for _, f := range stmt.Schema.Fields {
		if f.DBName == "" || !f.Creatable {
			continue
		}
		c := column{field: f, optional: f.AutoIncrement || f.HasDefaultValue, as: f.FieldType}
		base := f.FieldType
		if base.Kind() == reflect.Pointer {
			base = base.Elem()
		}
		_, serialized := f.TagSettings["SERIALIZER"]
		switch {
		case serialized || base == reflect.TypeFor[json.RawMessage]():
			c.json, c.as, c.sql = true, reflect.TypeFor[*string](), "text"
		case base == reflect.TypeFor[alert.Heard]() || base == reflect.TypeFor[alert.Said]():
			c.clock, c.as, c.sql = true, reflect.TypeFor[*time.Time](), "timestamptz"
		case base == reflect.TypeFor[time.Time]():
			c.sql = "timestamptz"
		case base == reflect.TypeFor[[]byte]():
			c.sql = "bytea"
		case base.Kind() == reflect.String:
			c.sql = "text"
		case base.Kind() == reflect.Bool:
			c.sql = "boolean"
		case base.Kind() == reflect.Int || base.Kind() == reflect.Int64:
			c.sql = "bigint"
		case base.Kind() == reflect.Float64:
			c.sql = "double precision"
		default:
			return nil, "", fmt.Errorf("column %s.%s cannot go over in an array", stmt.Schema.Table, f.DBName)
		}
		out = append(out, c)
	}
	parsed.Store(stmt.Schema.ModelType, out)
	return out, stmt.Schema.Table, nil
}

// convert gives a field's value as it goes over.
func (c column) convert(field reflect.Value) (reflect.Value, error) {
	if c.clock {
		v, err := field.Interface().(driver.Valuer).Value()
		at, some := v.(time.Time)
		if err != nil || !some {
			return reflect.Zero(c.as), err
		}
		return reflect.ValueOf(&at), nil
	}
	if !c.json {
		return field, nil
	}
	if raw, ok := field.Interface().(json.RawMessage); ok {
		text := string(raw)
		return reflect.ValueOf(&text), nil
	}
	b, err := json.Marshal(field.Interface())
	text := string(b)
	return reflect.ValueOf(&text), err
}
