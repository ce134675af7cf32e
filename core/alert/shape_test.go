package alert

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestShape(t *testing.T) {
	assert.Equal(t, Shape("quay-12/disk 97%"), Shape("quay-3/disk 8%"))
	assert.NotEqual(t, Shape("quay/disk"), Shape("quay/load"))
}
