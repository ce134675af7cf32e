package signin

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

	"urgentis/core/access"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func init() { cost = bcrypt.MinCost }

func addPerson(s *store.Store, name, password string, roles []access.Role) error {
	p, err := NewPerson(name, password, roles, time.Now())
	if err != nil {
		return err
	}
	return s.Tx(context.Background(), func(tx *store.Tx) error { return tx.SetPerson(p) })
}

func addToken(s *store.Store, name string, roles []access.Role, person string) (string, error) {
	value, t := NewToken(name, roles, time.Now().Add(time.Hour), person)
	return value, s.Tx(context.Background(), func(tx *store.Tx) error { return tx.AddToken(t) })
}

func removePerson(s *store.Store, name string) (tokens int, err error) {
	err = s.Tx(context.Background(), func(tx *store.Tx) error {
		tokens, err = tx.RemovePerson(name)
		return err
	})
	return tokens, err
}

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
	err := addPerson(s, "mara", "the right password", []access.Role{access.Viewer})
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
	for i := range triesPerNetwork {
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

// Whoever is removed while they make a token leaves none: of two that come at once one waits for the other.
func TestARemovedMakerLeavesNoToken(t *testing.T) {
	s := testdb.Open(t)
	a := New(s)
	ctx := context.Background()
	require.NoError(t, addPerson(s, "mara", "the right password", []access.Role{access.Admin}))
	value, row := NewToken("late", []access.Role{access.Admin}, time.Now().Add(time.Hour), "mara")
	_, err := removePerson(s, "mara")
	require.NoError(t, err)
	err = s.Tx(ctx, func(tx *store.Tx) error { return tx.AddToken(row) })
	assert.ErrorIs(t, err, store.ErrNotFound, "a request that was under way")
	row.OnMachine = true
	require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error { return tx.AddToken(row) }))
	p, err := a.ByToken(ctx, value)
	require.NoError(t, err)
	assert.NotNil(t, p, "on the machine nobody need be there")
	require.NoError(t, testdb.SQL(s).Exec("update token set on_machine = false").Error)
	p, err = a.ByToken(ctx, value)
	require.NoError(t, err)
	assert.Nil(t, p, "whose maker is not known may nothing")
}

// One name is not tried without end from many addresses: those of one network of IPv6 are one, and many networks slow
// down each other, but nobody who signed in from where they are.
func TestOneNameFromManyAddresses(t *testing.T) {
	s := testdb.Open(t)
	ctx := context.Background()
	a := New(s)
	at := time.Now()
	a.slow.now = func() time.Time { return at }
	require.NoError(t, addPerson(s, "mara", "the right password", []access.Role{access.Viewer}))
	_, _, err := a.SignIn(ctx, "mara", "the right password", "10.9.9.9")
	require.NoError(t, err)
	judged := 0
	try := func(from string) {
		if a.slow.try("mara", from) {
			judged++
		}
	}
	for i := range 60 {
		try(fmt.Sprintf("2001:db8::%x", i+1))
	}
	assert.Equal(t, triesPerName, judged, "one network")
	for i := range 200 {
		try(fmt.Sprintf("10.1.%d.1", i))
	}
	assert.Equal(t, triesOfName, judged+1, "many networks; the first that signed in counts")
	_, _, err = a.SignIn(ctx, "mara", "the right password", "10.9.9.9")
	assert.NoError(t, err, "whoever signed in from there before is not kept out")
	assert.True(t, a.slow.try("jonas", "10.1.7.1"), "another name is another matter")
	at = at.Add(time.Minute)
	assert.True(t, a.slow.try("mara", "10.2.0.1"), "after a while anybody may try")
}

func TestLongPasswordsThatAreNotASCII(t *testing.T) {
	s := testdb.Open(t)
	a := New(s)
	ctx := context.Background()
	long := strings.Repeat("ä", 72)
	err := addPerson(s, "mara", long, []access.Role{access.Viewer})
	require.NoError(t, err)
	_, _, err = a.SignIn(ctx, "mara", long, "here")
	assert.NoError(t, err)
	_, _, err = a.SignIn(ctx, "mara", long[:142]+"ö", "here")
	assert.ErrorIs(t, err, ErrWrong, "all of it counts")
}

// A removed person's sessions and tokens end, and a token's name is nobody else's.
func TestARemovedPersonsTokensEnd(t *testing.T) {
	s := testdb.Open(t)
	a := New(s)
	ctx := context.Background()
	err := addPerson(s, "mara", "the right password", []access.Role{access.Admin})
	require.NoError(t, err)
	token, err := addToken(s, "night-job", []access.Role{access.Viewer}, "mara")
	require.NoError(t, err)
	_, err = addToken(s, "mara", []access.Role{access.Viewer}, "mara")
	assert.ErrorIs(t, err, store.ErrNameTaken)
	err = addPerson(s, "night-job", "the right password", []access.Role{access.Viewer})
	assert.ErrorIs(t, err, store.ErrNameTaken)
	p, err := a.ByToken(ctx, token)
	require.NoError(t, err)
	assert.Equal(t, "mara", p.Behind())
	n, err := removePerson(s, "mara")
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
	err := addPerson(s, "iva", "the right password", []access.Role{access.Admin})
	require.NoError(t, err)
	token, err := addToken(s, "deploy", []access.Role{access.Admin, access.Approver}, "iva")
	require.NoError(t, err)
	may := func(role access.Role) bool {
		p, err := a.ByToken(ctx, token)
		require.NoError(t, err)
		return p.Has(role)
	}
	assert.True(t, may(access.Admin) && may(access.Approver))
	err = addPerson(s, "iva", "the right password", []access.Role{access.Approver})
	require.NoError(t, err)
	assert.False(t, may(access.Admin))
	assert.True(t, may(access.Approver))
	err = addPerson(s, "deploy", "the right password", []access.Role{access.Viewer})
	assert.ErrorIs(t, err, store.ErrNameTaken)
	var taken []error
	var mu sync.Mutex
	var wg sync.WaitGroup
	for i := range 2 {
		wg.Go(func() {
			var err error
			if i == 0 {
				err = addPerson(s, "both", "the right password", []access.Role{access.Viewer})
			} else {
				_, err = addToken(s, "both", []access.Role{access.Viewer}, "iva")
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
	assert.ErrorIs(t, taken[0], store.ErrNameTaken)
}
