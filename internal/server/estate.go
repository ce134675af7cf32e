package server

import (
	"context"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/links"
	"urgentis/internal/app"
	"urgentis/internal/listen"
	"urgentis/internal/store"
)

// change is the request's body as a merge patch on a thing.
func change(ctx context.Context, name, match string) app.Change {
	patch, _ := ctx.Value(rawBody).([]byte)
	return app.Change{Name: name, Patch: patch, Match: strings.Trim(match, `"`)}
}

// ListSources implements api.StrictServerInterface.
func (s *Server) ListSources(
	ctx context.Context,
	_ api.ListSourcesRequestObject,
) (api.ListSourcesResponseObject, error) {
	list, err := s.App.Sources(ctx, who(ctx))
	return api.ListSources200JSONResponse(mapped(list, func(x app.ListedSource) api.Source {
		return api.Source{Name: x.Name, CallBack: x.CallBack, AddedAt: x.AddedAt.UTC(), LastAlertAt: utc(x.LastAlertAt),
			Takes: api.SourceTakes(x.Takes)}
	})), err
}

// AddSource implements api.StrictServerInterface.
func (s *Server) AddSource(ctx context.Context, r api.AddSourceRequestObject) (api.AddSourceResponseObject, error) {
	ask := app.NewKey{
		Source: r.Body.Name, CallBack: r.Body.CallBack, Signing: r.Body.Key == api.NewSourceKeySigning,
		Keep: time.Duration(r.Body.KeepMinutes) * time.Minute,
	}
	if r.Body.Key == api.NewSourceKeyUser {
		ask.User = &listen.User{Auth: string(r.Body.Auth), Priv: string(r.Body.Priv)}
	}
	key, err := s.App.AddSource(ctx, who(ctx), ask)
	if err != nil {
		return nil, err
	}
	return api.AddSource201JSONResponse{Name: r.Body.Name, Token: key.Token, User: key.User, Priv: key.Priv}, nil
}

// ListListeners implements api.StrictServerInterface.
func (s *Server) ListListeners(
	ctx context.Context, _ api.ListListenersRequestObject,
) (api.ListListenersResponseObject, error) {
	list, err := s.App.Listeners(ctx, who(ctx))
	return api.ListListeners200JSONResponse(mapped(list, func(l store.Listener) api.Listener {
		return api.Listener{
			Host: l.Host, Name: l.Name, Address: l.Address, BegunAt: l.BegunAt.UTC(), NotedAt: l.NotedAt.UTC(),
			Heard: l.Heard, Kept: l.Kept, Strange: l.Strange, Stranger: l.Stranger, Lost: l.Lost, Waiting: l.Waiting,
		}
	})), err
}

// ListSourceKeys implements api.StrictServerInterface.
func (s *Server) ListSourceKeys(
	ctx context.Context, r api.ListSourceKeysRequestObject,
) (api.ListSourceKeysResponseObject, error) {
	list, err := s.App.SourceKeys(ctx, who(ctx), r.Name)
	return api.ListSourceKeys200JSONResponse(mapped(list, func(k store.SourceKey) api.SourceKey {
		return api.SourceKey{
			Id: k.ID, Kind: api.SourceKeyKind(k.Kind), AddedBy: k.AddedBy, AddedAt: k.AddedAt.UTC(),
			EndsAt:     utc(k.EndsAt),
			LastUsedAt: utc(k.LastUsedAt),
		}
	})), err
}

// EndSourceKey implements api.StrictServerInterface.
func (s *Server) EndSourceKey(
	ctx context.Context, r api.EndSourceKeyRequestObject,
) (api.EndSourceKeyResponseObject, error) {
	return api.EndSourceKey204Response{}, s.App.EndSourceKey(ctx, who(ctx), r.Name, r.Id)
}

// RemoveSource implements api.StrictServerInterface.
func (s *Server) RemoveSource(
	ctx context.Context,
	r api.RemoveSourceRequestObject,
) (api.RemoveSourceResponseObject, error) {
	return api.RemoveSource204Response{}, s.App.RemoveSource(ctx, who(ctx), r.Name)
}

// ListServices implements api.StrictServerInterface.
func (s *Server) ListServices(
	ctx context.Context,
	_ api.ListServicesRequestObject,
) (api.ListServicesResponseObject, error) {
	list, err := s.App.Services(ctx, who(ctx))
	return api.ListServices200JSONResponse(mapped(list, apiService)), err
}

// SetService implements api.StrictServerInterface.
func (s *Server) SetService(ctx context.Context, r api.SetServiceRequestObject) (api.SetServiceResponseObject, error) {
	out, err := s.App.SetService(ctx, who(ctx), change(ctx, r.Body.Name, r.Params.IfMatch))
	return api.SetService200JSONResponse(apiService(out)), err
}

// ListTargets implements api.StrictServerInterface.
func (s *Server) ListTargets(
	ctx context.Context,
	_ api.ListTargetsRequestObject,
) (api.ListTargetsResponseObject, error) {
	list, err := s.App.Targets(ctx, who(ctx))
	return api.ListTargets200JSONResponse(mapped(list, apiTarget)), err
}

// SetTarget implements api.StrictServerInterface.
func (s *Server) SetTarget(ctx context.Context, r api.SetTargetRequestObject) (api.SetTargetResponseObject, error) {
	out, err := s.App.SetTarget(ctx, who(ctx), change(ctx, r.Body.Name, r.Params.IfMatch))
	return api.SetTarget200JSONResponse(apiTarget(out)), err
}

// RemoveTarget implements api.StrictServerInterface.
func (s *Server) RemoveTarget(
	ctx context.Context,
	r api.RemoveTargetRequestObject,
) (api.RemoveTargetResponseObject, error) {
	return api.RemoveTarget204Response{}, s.App.RemoveTarget(ctx, who(ctx), r.Name)
}

// TryTarget implements api.StrictServerInterface.
func (s *Server) TryTarget(ctx context.Context, r api.TryTargetRequestObject) (api.TryTargetResponseObject, error) {
	out, err := s.App.TryTarget(ctx, who(ctx), r.Name)
	return api.TryTarget200JSONResponse{Ok: out.OK, Says: out.Says}, err
}

// ListSecrets implements api.StrictServerInterface.
func (s *Server) ListSecrets(
	ctx context.Context,
	_ api.ListSecretsRequestObject,
) (api.ListSecretsResponseObject, error) {
	list, err := s.App.Secrets(ctx, who(ctx))
	return api.ListSecrets200JSONResponse(mapped(list, apiSecret)), err
}

func apiSecret(x store.Secret) api.Secret {
	return api.Secret{Name: x.Name, Version: x.Version, Kind: api.SecretKind(x.Kind), SetAt: x.SetAt.UTC()}
}

// SetSecret implements api.StrictServerInterface.
func (s *Server) SetSecret(ctx context.Context, r api.SetSecretRequestObject) (api.SetSecretResponseObject, error) {
	row, err := s.App.SetSecret(ctx, who(ctx), r.Body.Name, string(r.Body.Kind), []byte(r.Body.Value))
	if err != nil {
		return nil, err
	}
	return api.SetSecret201JSONResponse(apiSecret(*row)), nil
}

func apiTarget(v app.Versioned[app.Target]) api.Target {
	t := v.Item
	return api.Target{
		Name: t.Name, Service: t.Service, Address: t.Address, Port: t.Port, Account: t.Account, Secret: t.Secret,
		HostKey: t.HostKey, Labels: t.Labels, Known: t.Known, LookAccount: t.LookAccount, LookSecret: t.LookSecret,
		LookCannotWrite: t.LookCannotWrite, Device: t.Device,
		Version: v.Version, Changed: v.Changed,
	}
}

func apiLink(l links.Link) api.PageLink { return api.PageLink{Title: l.Title, Address: l.Address} }

func apiService(v app.Versioned[app.Service]) api.Service {
	x := v.Item
	return api.Service{
		Name: x.Name, Title: x.Title, Owner: x.Owner, Stance: api.ServiceStance(x.Stance), QuietMinutes: x.QuietMinutes,
		DependsOn: x.DependsOn, Harm: x.Harm, FirstLook: x.FirstLook, Links: mapped(x.Links, apiLink),
		Version: v.Version, Changed: v.Changed,
	}
}

// RemoveService implements api.StrictServerInterface.
func (s *Server) RemoveService(
	ctx context.Context, r api.RemoveServiceRequestObject,
) (api.RemoveServiceResponseObject, error) {
	return api.RemoveService204Response{}, s.App.RemoveService(ctx, who(ctx), r.Name)
}

// RemoveSecret implements api.StrictServerInterface.
func (s *Server) RemoveSecret(
	ctx context.Context, r api.RemoveSecretRequestObject,
) (api.RemoveSecretResponseObject, error) {
	return api.RemoveSecret204Response{}, s.App.RemoveSecret(ctx, who(ctx), r.Name)
}
