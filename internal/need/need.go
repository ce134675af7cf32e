// Package need refuses configurations in which something is missing, before it is missed at night.
package need

import (
	"fmt"
	"reflect"
	"strings"
)

// All refuses a configuration, a struct, in which a field with the tag `need:"yes"` is empty, and names all of those.
// who is whose configuration it is, with its article. Only the fields are read, never what they point at, which may be
// at work already: libraries that validate structs copy it.
func All(who string, config any) error {
	v := reflect.ValueOf(config)
	var missing []string
	for i := range v.NumField() {
		if f := v.Type().Field(i); f.Tag.Get("need") == "yes" && v.Field(i).IsZero() {
			missing = append(missing, f.Name)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("%s cannot do without %s", who, strings.Join(missing, ", "))
	}
	return nil
}
