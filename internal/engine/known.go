package engine

import (
	"sync"

	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// known is what changes seldom and is read over and over, as it was under one version of the configuration.
type known struct {
	mu      sync.Mutex
	version int64
	world   *World // nil before it was read
	estates map[string]Estate
}

// under locks what is known under a version; what was known under another one is dropped.
func (k *known) under(version int64) (unlock func()) {
	k.mu.Lock()
	if k.version != version || k.estates == nil {
		k.version, k.world, k.estates = version, nil, map[string]Estate{}
	}
	return k.mu.Unlock
}

// Config is the version of the configuration that this sheet's transaction sees; it is read once.
func (s *Sheet) Config() (int64, error) {
	if s.config == nil {
		v, err := s.tx.ConfigVersion()
		if err != nil {
			return 0, err
		}
		s.config = &v
	}
	return *s.config, nil
}

// KnowConfig tells it that version, where a statement of its transaction gave it already.
func (s *Sheet) KnowConfig(version int64) { s.config = &version }

// Estate is a service and its targets, as they were at a moment.
type Estate struct {
	service map[string]any
	targets []flow.Target
}

// Estate is what a run of a runbook begins with: the service and its targets as they are now.
func (s *Sheet) Estate(b *runbook.Book) (Estate, error) {
	v, err := s.Config()
	if err != nil {
		return Estate{}, err
	}
	k := &s.e.known
	defer k.under(v)()
	key := b.Service + "\x00" + b.Owner
	est, ok := k.estates[key]
	if !ok {
		if est, err = readEstate(s.tx, b); err != nil {
			return Estate{}, err
		}
		k.estates[key] = est
	}
	return est, nil
}

func readEstate(tx *store.Tx, b *runbook.Book) (Estate, error) {
	e := Estate{service: map[string]any{"name": b.Service, "owner": b.Owner}}
	service, err := tx.Service(b.Service)
	if err != nil {
		return e, err
	}
	if service != nil {
		e.service["owner"] = service.Owner
	}
	rows, err := tx.TargetsOf(b.Service)
	if err != nil {
		return e, err
	}
	for _, t := range rows {
		e.targets = append(e.targets, flow.Target{Name: t.Name, Address: t.Address, Labels: t.Labels, Known: t.Known})
	}
	return e, nil
}
