package server

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"gorm.io/gorm"

	"urgentis/api"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// web refuses an address that is no http address.
func web(what, address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return bad("address", "%s must be an http or https address", what)
	}
	return nil
}

// ListSources implements api.StrictServerInterface.
func (s *Server) ListSources(ctx context.Context, _ api.ListSourcesRequestObject) (api.ListSourcesResponseObject, error) {
	var rows []store.Source
	err := s.Store.DB.WithContext(ctx).Order("name").Find(&rows).Error
	return api.ListSources200JSONResponse(mapped(rows, func(x store.Source) api.Source {
		return api.Source{Name: x.Name, CallBack: x.CallBack, AddedAt: x.AddedAt.UTC(), LastAlertAt: utc(x.LastAlertAt)}
	})), err
}

// AddSource implements api.StrictServerInterface.
func (s *Server) AddSource(ctx context.Context, r api.AddSourceRequestObject) (api.AddSourceResponseObject, error) {
	if r.Body.CallBack != "" {
		if err := web("call_back", r.Body.CallBack); err != nil {
			return nil, err
		}
	}
	value, err := s.Access.AddSource(ctx, r.Body.Name, r.Body.CallBack, who(ctx).Name)
	if err != nil {
		return nil, err
	}
	return api.AddSource201JSONResponse{Name: r.Body.Name, Token: value, ExpiresAt: time.Now().UTC().AddDate(100, 0, 0)}, nil
}

// RemoveSource implements api.StrictServerInterface.
func (s *Server) RemoveSource(ctx context.Context, r api.RemoveSourceRequestObject) (api.RemoveSourceResponseObject, error) {
	return api.RemoveSource204Response{}, s.remove(ctx, &store.Source{}, "source", r.Name)
}

// ListServices implements api.StrictServerInterface.
func (s *Server) ListServices(ctx context.Context, _ api.ListServicesRequestObject) (api.ListServicesResponseObject, error) {
	var rows []store.Service
	err := s.Store.DB.WithContext(ctx).Order("name").Find(&rows).Error
	return api.ListServices200JSONResponse(mapped(rows, apiService)), err
}

// SetService implements api.StrictServerInterface.
func (s *Server) SetService(ctx context.Context, r api.SetServiceRequestObject) (api.SetServiceResponseObject, error) {
	row := store.Service{Name: r.Body.Name, Stance: string(leave.Ask)}
	out, err := merge(ctx, s, "service", r.Body.Name, r.Params.IfMatch, &row, apiService, func(_ *gorm.DB, b api.Service) error {
		row.Title, row.Owner, row.Stance, row.QuietMinutes = b.Title, b.Owner, string(b.Stance), b.QuietMinutes
		if row.Owner == "" {
			return bad("owner", "a new service needs its owner")
		}
		return nil
	})
	out.Item.Changed = out.Changed
	return api.SetService200JSONResponse(out.Item), err
}

func (s *Server) save(ctx context.Context, row any, noun, name, detail string) error {
	return s.Store.Tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return store.Audit(tx, who(ctx).Name, noun+".set", name, detail)
	})
}

// ListTargets implements api.StrictServerInterface.
func (s *Server) ListTargets(ctx context.Context, _ api.ListTargetsRequestObject) (api.ListTargetsResponseObject, error) {
	var rows []store.Target
	err := s.Store.DB.WithContext(ctx).Order("name").Find(&rows).Error
	return api.ListTargets200JSONResponse(mapped(rows, apiTarget)), err
}

// SetTarget implements api.StrictServerInterface.
func (s *Server) SetTarget(ctx context.Context, r api.SetTargetRequestObject) (api.SetTargetResponseObject, error) {
	row := store.Target{Name: r.Body.Name, Port: 22, Labels: map[string]string{}}
	out, err := merge(ctx, s, "target", r.Body.Name, r.Params.IfMatch, &row, apiTarget, func(tx *gorm.DB, b api.Target) error {
		return acceptTarget(tx, &row, b)
	})
	out.Item.Changed = out.Changed
	return api.SetTarget200JSONResponse(out.Item), err
}

// acceptTarget judges a target as it would be, and puts it into its row.
func acceptTarget(tx *gorm.DB, row *store.Target, b api.Target) error {
	if b.Service == "" || b.Address == "" {
		return bad("target", "a new target needs its service and its address")
	}
	if strings.ContainsAny(b.Address, "/ @") {
		return bad("address", "address must be the name or the number of a host")
	}
	if b.HostKey != "" {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(b.HostKey))
		if err != nil {
			return bad("host-key", "the host key cannot be read; it looks like ssh-ed25519 AAAA…")
		}
		b.HostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	}
	if b.LookAccount != "" && b.LookSecret == "" {
		b.LookSecret = b.Secret
	}
	for _, name := range []string{b.Secret, b.LookSecret} {
		if name == "" {
			continue
		}
		versions, err := store.SecretVersions(tx, []string{name})
		if err != nil {
			return err
		}
		if versions[name] == 0 {
			return bad("secret", "there is no secret %s; set it first", name)
		}
	}
	if b.Port == 0 {
		b.Port = 22
	}
	*row = store.Target{Name: row.Name, Service: b.Service, Address: b.Address, Port: b.Port, Account: b.Account, Secret: b.Secret, HostKey: b.HostKey,
		Labels: b.Labels, Known: b.Known, LookAccount: b.LookAccount, LookSecret: b.LookSecret}
	return nil
}

// RemoveTarget implements api.StrictServerInterface.
func (s *Server) RemoveTarget(ctx context.Context, r api.RemoveTargetRequestObject) (api.RemoveTargetResponseObject, error) {
	return api.RemoveTarget204Response{}, s.remove(ctx, &store.Target{}, "target", r.Name)
}

// TryTarget implements api.StrictServerInterface.
func (s *Server) TryTarget(ctx context.Context, r api.TryTargetRequestObject) (api.TryTargetResponseObject, error) {
	facts, err := store.Facts(s.Store.DB.WithContext(ctx), []string{r.Name})
	if err != nil {
		return nil, err
	}
	if len(facts) == 0 {
		return nil, store.ErrNotFound
	}
	res := s.SSH.Do(ctx, act.Job{Request: leave.Request{Kind: "ssh", Target: facts[0], Words: []string{"true"}, Timeout: 10}, Attempt: "try"})
	out := api.TryTarget200JSONResponse{Ok: res.State == flow.OK, Says: res.Error}
	if out.Ok {
		out.Says = "signed in and ran a command"
	} else if out.Says == "" {
		out.Says = strings.TrimSpace("the command failed: " + res.Stderr.Text())
	}
	return out, nil
}

// ListSecrets implements api.StrictServerInterface.
func (s *Server) ListSecrets(ctx context.Context, _ api.ListSecretsRequestObject) (api.ListSecretsResponseObject, error) {
	var rows []store.Secret
	err := s.Store.DB.WithContext(ctx).Raw("select distinct on (name) name, version, kind, set_at from secret order by name, version desc").Scan(&rows).Error
	return api.ListSecrets200JSONResponse(mapped(rows, apiSecret)), err
}

func apiSecret(x store.Secret) api.Secret {
	return api.Secret{Name: x.Name, Version: x.Version, Kind: api.SecretKind(x.Kind), SetAt: x.SetAt.UTC()}
}

// SetSecret implements api.StrictServerInterface.
func (s *Server) SetSecret(ctx context.Context, r api.SetSecretRequestObject) (api.SetSecretResponseObject, error) {
	if r.Body.Kind == "ssh-key" {
		if _, err := ssh.ParsePrivateKey([]byte(r.Body.Value)); err != nil {
			return nil, bad("secret", "the value is no SSH private key that can be read without a passphrase")
		}
	}
	row, err := s.Secrets.Set(ctx, r.Body.Name, string(r.Body.Kind), []byte(r.Body.Value), who(ctx).Name)
	if err != nil {
		return nil, err
	}
	return api.SetSecret201JSONResponse(apiSecret(*row)), nil
}

// ListConnections implements api.StrictServerInterface.
func (s *Server) ListConnections(ctx context.Context, _ api.ListConnectionsRequestObject) (api.ListConnectionsResponseObject, error) {
	var rows []store.Connection
	err := s.Store.DB.WithContext(ctx).Order("name").Find(&rows).Error
	return api.ListConnections200JSONResponse(mapped(rows, func(c store.Connection) api.Connection {
		return api.Connection{Name: c.Name, Kind: api.ConnectionKind(c.Kind), Url: c.URL}
	})), err
}

// SetConnection implements api.StrictServerInterface.
func (s *Server) SetConnection(ctx context.Context, r api.SetConnectionRequestObject) (api.SetConnectionResponseObject, error) {
	b := *r.Body
	if err := web("url", b.Url); err != nil {
		return nil, err
	}
	row := store.Connection{Name: b.Name, Kind: string(b.Kind), URL: b.Url}
	return api.SetConnection200JSONResponse(b), s.save(ctx, &row, "connection", b.Name, "")
}

func apiTarget(t store.Target) api.Target {
	x := api.Target{Name: t.Name, Service: t.Service, Address: t.Address, Port: t.Port, Account: t.Account, Secret: t.Secret, HostKey: t.HostKey, Labels: t.Labels,
		Known: t.Known, LookAccount: t.LookAccount, LookSecret: t.LookSecret}
	x.Version = version(x)
	return x
}

func apiService(x store.Service) api.Service {
	out := api.Service{Name: x.Name, Title: x.Title, Owner: x.Owner, Stance: api.ServiceStance(x.Stance), QuietMinutes: x.QuietMinutes}
	out.Version = version(out)
	return out
}
