package expr_test

import (
	"errors"
	"fmt"

	"urgentis/core/expr"
)

// A condition rests on readings; where one of them is missing, it is neither true nor false.
func Example() {
	c, err := expr.NewCompiler(expr.Schema{
		Inputs:   map[string]expr.Type{"low": expr.Integer},
		Readings: map[string]expr.Type{"depth": expr.Integer},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	deep, err := c.Compile("max(readings.depth) > inputs.low", expr.InStep)
	if err != nil {
		fmt.Println(err)
		return
	}
	asked := []string{"berth-consumer-1", "berth-consumer-2"}
	depth := func(samples map[string]expr.Sample) *expr.Scope {
		return &expr.Scope{
			Inputs: map[string]any{"low": int64(200)},
			Readings: map[string]*expr.Series{"depth": {
				Name: "depth", Rounds: []expr.Round{{Seq: 2, Asked: asked, Samples: samples}},
			}},
		}
	}
	both := map[string]expr.Sample{
		"berth-consumer-1": {Value: int64(812), Target: "berth-consumer-1"},
		"berth-consumer-2": {Value: int64(40), Target: "berth-consumer-2"},
	}
	holds, values, err := deep.Explain(depth(both))
	fmt.Println(holds, values, err)

	delete(both, "berth-consumer-1") // it did not answer
	_, err = deep.Bool(depth(both))
	fmt.Println(errors.Is(err, expr.ErrUnsure), err)
	// Output:
	// true [{max(readings.depth) 812 berth-consumer-1} {inputs.low 200 }] <nil>
	// true evidence is missing: no depth from berth-consumer-1
}

// A text with holes is a value where it is nothing but one hole, and text otherwise.
func ExampleTemplate() {
	c, err := expr.NewCompiler(expr.Schema{Inputs: map[string]expr.Type{"queue": expr.Text, "low": expr.Integer}})
	if err != nil {
		fmt.Println(err)
		return
	}
	scope := &expr.Scope{Inputs: map[string]any{"queue": "quay-north", "low": int64(200)}}
	for _, src := range []string{"{{ inputs.low }}", "{{ inputs.queue }} is below {{ inputs.low }}"} {
		t, err := c.CompileTemplate(src, expr.InStep)
		if err != nil {
			fmt.Println(err)
			return
		}
		v, err := t.Value(scope)
		fmt.Printf("%T %v %v\n", v, v, err)
	}
	// Output:
	// int64 200 <nil>
	// string quay-north is below 200 <nil>
}
