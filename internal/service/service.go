// Package service puts the parts of an instance together and takes them apart again.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"urgentis/console"
	"urgentis/core/device"
	"urgentis/core/message"
	"urgentis/core/reading"
	"urgentis/core/reads"
	"urgentis/internal/act"
	"urgentis/internal/act/httpcall"
	"urgentis/internal/act/local"
	"urgentis/internal/act/probe"
	"urgentis/internal/act/sqlquery"
	"urgentis/internal/act/ssh"
	"urgentis/internal/app"
	"urgentis/internal/connect"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/listen"
	"urgentis/internal/localdb"
	"urgentis/internal/scheduled"
	"urgentis/internal/secret"
	"urgentis/internal/server"
	"urgentis/internal/signin"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/telling"
)

// Config says how an instance is to run.
type Config struct {
	Database   string // "": a private one under DataDir
	DataDir    string
	Listen     string
	Link       string // "": http:// and the listening address
	AllowNet   []string
	AllowLocal bool
	// LocalAccount is whom local commands run as; "": the service's own account.
	LocalAccount string
	// Metrics says who may read /metrics: MetricsOpen, MetricsSignedIn or MetricsOff.
	Metrics string
	// TrustedProxies are the networks of proxies that tell where a request came from.
	TrustedProxies []string
	KeyFile        string // "": seal.key under DataDir
	// Hear is what is listened to but HTTP.
	Hear    Hear
	Version string
	Log     *slog.Logger
}

// Instance is a running service.
type Instance struct {
	Link  string
	App   *app.App
	Store *store.Store

	cfg Config
	db  *localdb.Server
	// kept ends when the private database is no longer to be kept running.
	kept     context.Context
	letGo    context.CancelFunc
	keeping  sync.WaitGroup
	engine   *engine.Engine
	intake   *intake.Intake
	ears     *listen.Ears
	ssh      *ssh.Hand
	server   *server.Server
	listener net.Listener
}

// Tune lets the garbage collector run less often than by default: the heap of a service that mostly waits is small,
// and collecting it anew every few megabytes would take a fifth of the processor under load. It runs more often again
// where the heap grows beyond softMemory, or twice what lives of it; the stacks of goroutines, which no collecting
// makes less, come on top. GOGC and GOMEMLIMIT win where they are set.
func Tune() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
	}
	if os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	debug.SetMemoryLimit(softMemory)
	go func() {
		is := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/memory/classes/heap/stacks:bytes"}}
		for range time.Tick(time.Second) {
			metrics.Read(is)
			live, stacks := int64(is[0].Value.Uint64()), int64(is[1].Value.Uint64()) //nolint:gosec // memory is smaller
			debug.SetMemoryLimit(stacks + max(softMemory, 2*live))
		}
	}()
}

// softMemory is how much memory is used freely, in bytes.
const softMemory = 256 << 20

// Start brings an instance up; it does not answer before Serve.
func Start(ctx context.Context, c Config) (*Instance, error) {
	i := &Instance{cfg: c}
	i.kept, i.letGo = context.WithCancel(context.Background())
	if err := i.start(ctx); err != nil {
		i.Stop()
		return nil, err
	}
	return i, nil
}

func (i *Instance) start(ctx context.Context) error {
	c := i.cfg
	allowed, err := httpcall.ParseAllowed(c.AllowNet)
	if err != nil {
		return err
	}
	// The address first: a second service on it should fail before it touches anything.
	if i.listener, err = net.Listen("tcp", c.Listen); err != nil {
		return fmt.Errorf("listen on %s: %w", c.Listen, err)
	}
	if i.Link = c.Link; i.Link == "" {
		i.Link = "http://" + i.listener.Addr().String()
	}
	if err := os.MkdirAll(c.DataDir, 0o755); err != nil {
		return fmt.Errorf("make the data directory: %w", err)
	}
	url := c.Database
	if url == "" {
		if i.db, err = localdb.Start(ctx, c.DataDir); err != nil {
			return err
		}
		url = i.db.URL
		i.keeping.Go(func() { i.db.Keep(i.kept, c.Log) })
	}
	if i.Store, err = store.Open(ctx, url, c.Log); err != nil {
		return err
	}
	key := c.KeyFile
	if key == "" {
		key = filepath.Join(c.DataDir, "seal.key")
	}
	box, err := secret.OpenFor(ctx, i.Store, key)
	if err != nil {
		return err
	}
	return i.assemble(ctx, allowed, &secret.Keeper{Store: i.Store, Box: box})
}

// localHand makes the hand for commands on this host.
func localHand(c Config) (local.Hand, error) {
	h := local.Hand{On: c.AllowLocal}
	if !h.On {
		return h, nil
	}
	if c.LocalAccount == "" {
		c.Log.Warn(
			"commands of runbooks on this host run as the service's own account: whoever may push runbooks can read " +
				"its key file, its environment and its database; give them another account with --local-account",
		)
		return h, nil
	}
	var err error
	h.Account, err = local.As(c.LocalAccount)
	return h, err
}

// known is what is known when a look leaves.
type known struct {
	store  *store.Store
	engine func() *engine.Engine
}

// Reads implements act.Known.
func (k known) Reads(ctx context.Context) (*reads.Set, error) {
	return k.engine().Reads(k.store.In(ctx))
}

// CannotWrite implements act.Known.
func (k known) CannotWrite(ctx context.Context, target, account string) (bool, error) {
	return k.store.In(ctx).LookCannotWrite(target, account)
}

// Device implements act.Known.
func (k known) Device(ctx context.Context, kind string) (*device.Kind, error) {
	return k.store.In(ctx).DeviceKind(kind)
}

// deviceKind reads how devices of a kind are spoken with.
func (i *Instance) deviceKind(ctx context.Context, kind string) (*device.Kind, error) {
	return i.Store.In(ctx).DeviceKind(kind)
}

// storedFile opens a file of the store by its SHA-256.
func (i *Instance) storedFile(ctx context.Context, digest string) (io.Reader, error) {
	tx := i.Store.In(ctx)
	f, err := tx.Stored(digest)
	if err != nil {
		return nil, err
	}
	return tx.Pieces(f.ID), nil
}

func (i *Instance) assemble(ctx context.Context, allowed httpcall.Allowed, keeper *secret.Keeper) (err error) {
	c := i.cfg
	here, err := localHand(c)
	if err != nil {
		return err
	}
	i.ssh = ssh.New(ssh.Config{Credential: keeper.Credential, Kinds: i.deviceKind, Files: i.storedFile})
	feed := app.NewFeed(i.Store)
	defer func() {
		if err != nil {
			feed.Stop()
		}
	}()
	var driver *engine.Engine
	told := stories.New()
	teller := &telling.Teller{Stories: told}
	outbox, err := connect.New(connect.Config{
		Store: i.Store, Allowed: allowed, Secrets: keeper, Link: i.Link, Log: c.Log,
		Connections: func(ctx context.Context, name string) (*message.Connection, error) {
			return driver.Connection(i.Store.In(ctx), name)
		},
		Desk: func(tx *store.Tx, inc *store.Incident) (map[string]any, error) { return teller.DeskNames(tx, inc) },
	})
	if err != nil {
		return err
	}
	looks := known{i.Store, func() *engine.Engine { return driver }}
	driver, err = engine.New(
		engine.Config{Store: i.Store, Secrets: keeper, Log: c.Log, Version: c.Version, Link: i.Link, Live: feed.Output,
			Hands: engine.Hands{
				"ssh":   act.Honest{Hand: i.ssh, Known: looks},
				"local": act.Honest{Hand: here, Known: looks},
				"http":  httpcall.New(allowed),
				"job": httpcall.NewJobs(allowed, func(ctx context.Context, q *reading.Query, out []byte) (any, error) {
					return driver.Evaluate(ctx)(q, out)
				}),
				"sql":   sqlquery.Hand{},
				"probe": probe.Hand{},
			},
			Workers: func(w *river.Workers) { river.AddWorker(w, outbox) }},
	)
	if err != nil {
		return err
	}
	teller.Engine, teller.FetchFeed = driver, outbox.FetchFeed
	if err := driver.Start(ctx); err != nil {
		return err
	}
	teller.Start()
	looker, err := scheduled.New(driver)
	if err != nil {
		return err
	}
	looker.Start()
	stories.Gather(driver)
	i.engine = driver
	i.intake, err = intake.New(intake.Config{Store: i.Store, Engine: i.engine, Log: c.Log})
	if err != nil {
		return err
	}
	i.App, err = app.New(app.Config{
		Store: i.Store, Engine: i.engine, Teller: teller, Looker: looker, Intake: i.intake,
		Accounts: signin.New(i.Store), Secrets: keeper, SSH: i.ssh, Outbox: outbox, Stories: told,
		Log: c.Log, Version: c.Version, Link: i.Link,
	})
	if err != nil {
		return err
	}
	if err := i.hear(ctx); err != nil {
		return err
	}
	i.server, err = server.New(server.Config{
		App: i.App, Feed: feed, Console: console.Files(), Log: c.Log, Link: i.Link,
		TrustedProxies: c.TrustedProxies, Metrics: c.Metrics,
	})
	return err
}

// Serve answers until the context ends.
func (i *Instance) Serve(ctx context.Context) error {
	failed := make(chan error, 1)
	go func() { failed <- i.server.Serve(i.listener) }()
	select {
	case <-ctx.Done():
		return nil
	case err := <-failed:
		return err
	}
}

// Stop takes the instance down in order: no new requests, no new work, then the database.
func (i *Instance) Stop() error {
	if i.server != nil {
		i.server.Stop()
	} else if i.listener != nil {
		i.listener.Close() //nolint:errcheck // nothing was answered on it
	}
	if i.ears != nil {
		i.ears.Stop()
	}
	if i.intake != nil {
		i.intake.Stop()
	}
	if i.engine != nil {
		i.engine.Stop()
	}
	if i.ssh != nil {
		i.ssh.Close()
	}
	if i.Store != nil {
		i.Store.Close()
	}
	i.letGo()
	i.keeping.Wait()
	if i.db != nil {
		return i.db.Stop()
	}
	return nil
}

// ErrNoWay is returned by DefaultDataDir where this account has no home.
var ErrNoWay = errors.New("this account has no home directory; give --data-dir")

// DefaultDataDir is where an installation keeps its data unless told otherwise.
func DefaultDataDir(name string) (string, error) {
	if os.Getuid() == 0 {
		return "/var/lib/" + name, nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", ErrNoWay
	}
	if d := os.Getenv("XDG_DATA_HOME"); d != "" {
		return filepath.Join(d, name), nil
	}
	return filepath.Join(home, ".local", "share", name), nil
}
