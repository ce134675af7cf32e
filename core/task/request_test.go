package task_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/core/expr"
	"urgentis/core/task"
)

func TestSecretNames(t *testing.T) {
	r := task.Request{
		Env:     map[string]string{"A": expr.SecretMark("gate-key"), "B": "plain"},
		Headers: map[string]string{"Authorization": "Bearer " + expr.SecretMark("room")},
		Stdin:   expr.SecretMark("gate-key"),
		SQL:     &task.Statement{Password: expr.SecretMark("fares")},
	}
	assert.Equal(t, []string{"fares", "gate-key", "room"}, r.SecretNames(), "each once, sorted")
	assert.Empty(t, task.Request{Stdin: "nothing"}.SecretNames())
}
