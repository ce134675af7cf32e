package alert

import (
	"encoding/json"
	"strings"
	"time"

	"urgentis/core/expr"
)

// Deployment is a change that somebody made to a service: a version that went out, a setting, work on a host.
type Deployment struct {
	Service     string    `json:"service"`
	Version     string    `json:"version"`
	Environment string    `json:"environment"`
	Summary     string    `json:"summary"`
	By          string    `json:"by"`
	Link        string    `json:"link"`
	At          time.Time `json:"at"`
}

// What a source reports.
const (
	OfAlerts      = "alerts"
	OfDeployments = "deployments"
)

// Reports lists what a source may report.
var Reports = []string{OfAlerts, OfDeployments, OfTickets}

// DeploymentFields are the fields of a deployment that a source maps.
var DeploymentFields = []string{"service", "version", "environment", "summary", "by", "at", "link"}

// cdEvent is what of a CDEvent (https://cdevents.dev, 0.3 and 0.4) is understood: its context and subject.
type cdEvent struct {
	Context struct {
		Type      string `json:"type"`
		Source    string `json:"source"`
		Timestamp string `json:"timestamp"`
	} `json:"context"`
	Subject struct {
		ID      string `json:"id"`
		Content struct {
			ArtifactID  string `json:"artifactId"`
			Environment struct {
				ID string `json:"id"`
			} `json:"environment"`
		} `json:"content"`
	} `json:"subject"`
}

// Deployments reads what a source of deployments posts. Without a map that is our own JSON, or a CDEvent about a
// service, in structured CloudEvents or by itself; or a list of them. It is pure; errors are of type *Invalid.
func (s *Source) Deployments(p Payload, now time.Time) ([]Deployment, error) {
	if s.Map != nil {
		return s.mappedDeployments(p, now)
	}
	v, err := p.read()
	if err != nil {
		return nil, err
	}
	list, many := v.([]any)
	if !many {
		list = []any{v}
	}
	if len(list) == 0 || len(list) > MaxReports {
		return nil, invalid("the list has %d deployments; send from 1 to %d", len(list), MaxReports)
	}
	out := make([]Deployment, len(list))
	for i, one := range list {
		if out[i], err = readDeployment(one, now); err != nil {
			return nil, invalid("deployment %d of %d: %s", i+1, len(list), err)
		}
	}
	return out, nil
}

func readDeployment(v any, now time.Time) (Deployment, error) {
	m, ok := v.(map[string]any)
	if !ok {
		return Deployment{}, invalid("it must be an object")
	}
	if data, ok := m["data"].(map[string]any); ok && m["specversion"] != nil {
		m = data
	}
	b, err := json.Marshal(m)
	if err != nil {
		return Deployment{}, invalid("it cannot be read: %s", err)
	}
	if m["context"] != nil && m["subject"] != nil {
		return readCDEvent(b, now)
	}
	var d Deployment
	if err := decode(b, &d); err != nil {
		return d, err
	}
	return d, d.complete(now)
}

// readCDEvent takes dev.cdevents.service.deployed, upgraded, rolledback, published and removed.
func readCDEvent(b []byte, now time.Time) (Deployment, error) {
	var e cdEvent
	if err := decode(b, &e); err != nil {
		return Deployment{}, err
	}
	what, ok := strings.CutPrefix(e.Context.Type, "dev.cdevents.service.")
	if !ok {
		return Deployment{}, invalid("the CDEvent is a %s; those about a service are understood", clip(e.Context.Type))
	}
	what, _, _ = strings.Cut(what, ".")
	d := Deployment{
		Service: e.Subject.ID, Version: e.Subject.Content.ArtifactID, Environment: e.Subject.Content.Environment.ID,
		By: e.Context.Source, Summary: what,
	}
	if e.Context.Timestamp != "" {
		var err error
		if d.At, err = Moment(e.Context.Timestamp); err != nil {
			return d, err
		}
	}
	return d, d.complete(now)
}

func (s *Source) mappedDeployments(p Payload, now time.Time) ([]Deployment, error) {
	scope, items, err := s.opened(p, now)
	if err != nil {
		return nil, err
	}
	var out []Deployment
	for i, item := range items {
		scope.Names["item"] = item
		if s.Ignore != nil {
			yes, err := s.Ignore.Bool(scope)
			if err != nil {
				return nil, invalid("item %d: ignore: %s", i+1, reason(err))
			}
			if yes {
				continue
			}
		}
		d, err := s.oneDeployment(scope, now)
		if err != nil {
			return nil, invalid("item %d: %s", i+1, err)
		}
		out = append(out, d)
	}
	return out, nil
}

func (s *Source) oneDeployment(scope *expr.Scope, now time.Time) (d Deployment, err error) {
	into := map[string]*string{"service": &d.Service, "version": &d.Version, "environment": &d.Environment,
		"summary": &d.Summary, "by": &d.By, "link": &d.Link}
	for _, name := range DeploymentFields {
		f := s.Map[name]
		if f == nil {
			continue
		}
		v, err := f.value(scope)
		if err != nil {
			return d, invalid("%s: %s", name, reason(err))
		}
		if name != "at" {
			*into[name] = v
		} else if v != "" {
			if d.At, err = Moment(v); err != nil {
				return d, err
			}
		}
	}
	return d, d.complete(now)
}

// complete holds a deployment to what can be kept.
func (d *Deployment) complete(now time.Time) error {
	if d.Service = strings.TrimSpace(d.Service); d.Service == "" {
		return invalid("the service is missing")
	}
	for _, t := range []string{d.Service, d.Version, d.Environment, d.By} {
		if len(t) > MaxName {
			return invalid("service, version, environment and by may have %d bytes each", MaxName)
		}
	}
	if len(d.Summary) > MaxText || len(d.Link) > MaxLabel {
		return invalid("summary may have %d bytes, link %d", MaxText, MaxLabel)
	}
	if d.Link != "" && !strings.HasPrefix(d.Link, "https://") && !strings.HasPrefix(d.Link, "http://") {
		return invalid("link must begin with https:// or http://")
	}
	for _, t := range []string{d.Service, d.Version, d.Environment, d.By, d.Summary, d.Link} {
		if strings.ContainsRune(t, 0) {
			return invalid("the NUL character is not allowed in text")
		}
	}
	if !d.At.IsZero() && d.At.Year() < 1970 {
		return invalid("at is in the year %d; it must be 1970 or later", d.At.Year())
	}
	if d.At.IsZero() || d.At.After(now.Add(time.Minute)) {
		d.At = now
	}
	return nil
}

// Expression sees a deployment as triggers do.
func (d *Deployment) Expression() map[string]any {
	return map[string]any{
		"service": d.Service, "version": d.Version, "environment": d.Environment, "summary": d.Summary, "by": d.By,
		"link": d.Link,
	}
}
