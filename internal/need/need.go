// Package need refuses configurations in which something is missing, before it is missed at night.
package need

import (
	"errors"
	"fmt"
	"strings"

	"github.com/go-playground/validator/v10"
)

// check reads the tags `validate:"required"`; pointers are not followed with structonly.
var check = validator.New(validator.WithRequiredStructEnabled())

// All refuses a configuration in which a field that is required is empty, and names all of those. who is whose
// configuration it is, with its article.
func All(who string, config any) error {
	err := check.Struct(config)
	var all validator.ValidationErrors
	if !errors.As(err, &all) {
		return err
	}
	names := make([]string, len(all))
	for i, f := range all {
		names[i] = f.Field()
	}
	return fmt.Errorf("%s cannot do without %s", who, strings.Join(names, ", "))
}
