package access

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"urgentis/internal/testdb"
)

func init() { cost = bcrypt.MinCost }

// The set-up code of a second instance is worth nothing once there is somebody.
func TestASecondSetUpCodeReplacesNobody(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	one, two := New(s), New(s)
	a, err := one.SetupCode(ctx)
	require.NoError(t, err)
	b, err := two.SetupCode(ctx)
	require.NoError(t, err)
	_, err = one.SetUp(ctx, a, "mara", "the first password")
	require.NoError(t, err)
	_, err = two.SetUp(ctx, b, "mara", "another password")
	assert.ErrorIs(t, err, ErrSetup)
	_, err = two.SetUp(ctx, b, "eve", "another password")
	assert.ErrorIs(t, err, ErrSetup)
	_, _, err = two.SignIn(ctx, "mara", "the first password", "here")
	assert.NoError(t, err)
}

// Wrong tries slow down whoever makes them, and nobody else.
func TestTheThrottleTurnsAgainstNobodyElse(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	a := New(s)
	at := time.Now()
	a.slow.now = func() time.Time { return at } // comparing passwords takes a while, which must not count
	_, err := a.AddPerson(ctx, "mara", "the right password", []Role{Viewer}, "iva")
	require.NoError(t, err)
	wrong := 0
	var wg sync.WaitGroup
	var mu sync.Mutex
	for range 3 * triesPerName {
		wg.Go(func() {
			_, _, err := a.SignIn(ctx, "mara", "wrong", "many at once")
			mu.Lock()
			defer mu.Unlock()
			if errors.Is(err, ErrWrong) {
				wrong++
			}
		})
	}
	wg.Wait()
	assert.Equal(t, triesPerName, wrong, "many at once are counted too")
	for range triesPerName {
		_, _, err = a.SignIn(ctx, "mara", "wrong", "attacker")
		require.ErrorIs(t, err, ErrWrong)
	}
	_, _, err = a.SignIn(ctx, "mara", "the right password", "attacker")
	assert.ErrorIs(t, err, ErrThrottle)
	_, _, err = a.SignIn(ctx, "mara", "the right password", "home")
	assert.NoError(t, err, "from elsewhere the right password opens")
	for range 20 {
		_, _, err = a.SignIn(ctx, "mara", "the right password", "home")
		require.NoError(t, err, "the right password counts against nobody")
	}
	// Many names do not empty the throttle of whoever tries them.
	for i := range triesPerAddress {
		a.slow.try(fmt.Sprint("n", i), "attacker")
	}
	for i := range 2 * maxLimiters {
		a.slow.try(fmt.Sprint("m", i), "attacker")
	}
	assert.LessOrEqual(t, a.slow.seen.Len(), maxLimiters)
	_, _, err = a.SignIn(ctx, "new", "wrong", "attacker")
	assert.ErrorIs(t, err, ErrThrottle)
	at = at.Add(time.Minute)
	_, _, err = a.SignIn(ctx, "mara", "the right password", "attacker")
	assert.NoError(t, err, "after a while anybody may try again")
}

func TestLongPasswordsThatAreNotASCII(t *testing.T) {
	a := New(testdb.Open(t))
	ctx := context.Background()
	long := strings.Repeat("ä", 72)
	_, err := a.AddPerson(ctx, "mara", long, []Role{Viewer}, "iva")
	require.NoError(t, err)
	_, _, err = a.SignIn(ctx, "mara", long, "here")
	assert.NoError(t, err)
	_, _, err = a.SignIn(ctx, "mara", long[:142]+"ö", "here")
	assert.ErrorIs(t, err, ErrWrong, "all of it counts")
}

// A removed person's sessions and tokens end, and a token's name is nobody else's.
func TestARemovedPersonsTokensEnd(t *testing.T) {
	a := New(testdb.Open(t))
	ctx := context.Background()
	_, err := a.AddPerson(ctx, "mara", "the right password", []Role{Admin}, "iva")
	require.NoError(t, err)
	token, _, err := a.AddToken(ctx, "night-job", []Role{Viewer}, time.Hour, "mara")
	require.NoError(t, err)
	_, _, err = a.AddToken(ctx, "mara", []Role{Viewer}, time.Hour, "mara")
	assert.ErrorIs(t, err, ErrNameTaken)
	_, err = a.AddPerson(ctx, "night-job", "the right password", []Role{Viewer}, "iva")
	assert.ErrorIs(t, err, ErrNameTaken)
	p, err := a.ByToken(ctx, token)
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Behind())
	n, err := a.RemovePerson(ctx, "mara", "iva")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	p, err = a.ByToken(ctx, token)
	require.NoError(t, err)
	assert.Nil(t, p)
}

// A token may no more than the person who answers for it, as they are now; a name is one person's or one token's.
func TestATokenMayNoMoreThanItsPerson(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	a := New(s)
	_, err := a.AddPerson(ctx, "iva", "the right password", []Role{Admin}, "x")
	require.NoError(t, err)
	token, _, err := a.AddToken(ctx, "deploy", []Role{Admin, Approver}, time.Hour, "iva")
	require.NoError(t, err)
	may := func(role Role) bool {
		p, err := a.ByToken(ctx, token)
		require.NoError(t, err)
		return p.May(string(role))
	}
	assert.True(t, may(Admin) && may(Approver))
	_, err = a.AddPerson(ctx, "iva", "the right password", []Role{Approver}, "x")
	require.NoError(t, err)
	assert.False(t, may(Admin))
	assert.True(t, may(Approver))
	_, err = a.AddPerson(ctx, "deploy", "the right password", []Role{Viewer}, "x")
	assert.ErrorIs(t, err, ErrNameTaken)
	var taken []error
	var mu sync.Mutex
	var wg sync.WaitGroup
	for i := range 2 {
		wg.Go(func() {
			var err error
			if i == 0 {
				_, err = a.AddPerson(ctx, "both", "the right password", []Role{Viewer}, "x")
			} else {
				_, _, err = a.AddToken(ctx, "both", []Role{Viewer}, time.Hour, "x")
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				taken = append(taken, err)
			}
		})
	}
	wg.Wait()
	require.Len(t, taken, 1, "one of two that come at once")
	assert.ErrorIs(t, taken[0], ErrNameTaken)
}

func TestANewTokenOfASourceLeavesTheRest(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	a := New(s)
	_, err := a.AddSource(ctx, "mon", "http://mon.example/back", "iva")
	require.NoError(t, err)
	require.NoError(t, s.DB.Exec("update source set last_alert_at = now()").Error)
	token, err := a.AddSource(ctx, "mon", "", "iva")
	require.NoError(t, err)
	may, err := a.SourceMay(ctx, "mon", token)
	require.NoError(t, err)
	assert.True(t, may)
	var left int64
	require.NoError(t, s.DB.Raw("select count(*) from source where call_back <> '' and last_alert_at is not null").Scan(&left).Error)
	assert.EqualValues(t, 1, left)
}
