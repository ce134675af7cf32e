package internal

import (
	"go/types"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

// What the contract has of its own: requests and responses as the generated server hands them over.
var generatedAround = []string{"RequestObject", "ResponseObject", "Response", "Client", "Wrapper", "Options", "Error",
	"JSONResponse", "ProblemPlusJSONResponse", "Handler"}

// Each field of what comes and goes by the contract is named by the server: one that is forgotten there would be taken
// and lost, or promised and never given.
func TestTheServerForgetsNoField(t *testing.T) {
	list, err := packages.Load(&packages.Config{
		Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes |
			packages.NeedTypesInfo | packages.NeedImports,
	}, "urgentis/internal/server", "urgentis/api")
	require.NoError(t, err)
	require.Len(t, list, 2)
	named := map[types.Object]bool{}
	var scope *types.Scope
	for _, p := range list {
		require.Empty(t, p.Errors)
		if p.PkgPath == "urgentis/api" {
			scope = p.Types.Scope()
		}
		for at, o := range p.TypesInfo.Uses {
			// What of it was generated names each of them.
			if !strings.HasSuffix(p.Fset.Position(at.Pos()).Filename, ".gen.go") {
				named[o] = true
			}
		}
	}
	n := 0
	for _, name := range scope.Names() {
		x, ok := scope.Lookup(name).(*types.TypeName)
		if !ok || x.IsAlias() || generated(name) {
			continue
		}
		is, ok := x.Type().Underlying().(*types.Struct)
		if !ok || !comesOrGoes(is) {
			continue
		}
		for i := range is.NumFields() {
			n++
			assert.True(t, named[is.Field(i)], "%s.%s", name, is.Field(i).Name())
		}
	}
	assert.Greater(t, n, 500)
}

func generated(name string) bool {
	for _, end := range generatedAround {
		if strings.HasSuffix(name, end) {
			return true
		}
	}
	return false
}

// comesOrGoes reports whether a struct is of the contract: its fields have names in JSON.
func comesOrGoes(s *types.Struct) bool {
	for i := range s.NumFields() {
		if _, ok := reflect.StructTag(s.Tag(i)).Lookup("json"); !ok {
			return false
		}
	}
	return s.NumFields() > 0
}
