package source

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"urgentis/core/alert"
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

// knownDeployment makes a deployment of our own JSON, or of a CDEvent about a service, which may be the data of an
// event of CloudEvents.
func knownDeployment(one []byte, from *cloudEvent) (Event, string, error) {
	var is struct{ Context, Subject json.RawMessage }
	if err := decode(one, &is); err != nil {
		return nil, "", err
	}
	if is.Context != nil && is.Subject != nil {
		d, err := readCDEvent(one)
		return d, "CDEvents", err
	}
	d := &Deployment{}
	if err := decode(one, d); err != nil {
		return nil, "", err
	}
	if from == nil {
		return d, "our own JSON", nil
	}
	if d.At.IsZero() {
		d.At = from.at
	}
	return d, "CloudEvents", nil
}

// readCDEvent takes dev.cdevents.service.deployed, upgraded, rolledback, published and removed.
func readCDEvent(b []byte) (*Deployment, error) {
	var e cdEvent
	if err := decode(b, &e); err != nil {
		return nil, err
	}
	what, ok := strings.CutPrefix(e.Context.Type, "dev.cdevents.service.")
	if !ok {
		return nil, fmt.Errorf("the CDEvent is a %s; those about a service are understood", alert.Clip(e.Context.Type))
	}
	what, _, _ = strings.Cut(what, ".")
	d := &Deployment{
		Service: e.Subject.ID, Version: e.Subject.Content.ArtifactID, Environment: e.Subject.Content.Environment.ID,
		By: e.Context.Source, Summary: what,
	}
	if e.Context.Timestamp != "" {
		var err error
		if d.At, err = Moment(e.Context.Timestamp); err != nil {
			return nil, err
		}
	}
	return d, nil
}

func madeDeployment(v *values) (Event, string) {
	t := v.text
	return &Deployment{Service: t["service"], Version: t["version"], Environment: t["environment"],
		Summary: t["summary"], By: t["by"], Link: t["link"], At: v.at.Time}, ""
}

func (d *Deployment) fields() []said {
	return []said{{"service", d.Service}, {"version", d.Version}, {"environment", d.Environment},
		{"summary", d.Summary}, {"by", d.By}, {"at", d.At.UTC().Format(time.RFC3339)}, {"link", d.Link}}
}

// complete holds a deployment to what can be kept.
func (d *Deployment) complete(heard alert.Heard) error {
	d.Service = alert.Name(d.Service)
	for _, t := range []*string{&d.Version, &d.Environment, &d.Summary, &d.By, &d.Link} {
		*t = alert.Text(*t)
	}
	if d.Service == "" {
		return fmt.Errorf("the service is missing")
	}
	for _, t := range []string{d.Service, d.Version, d.Environment, d.By} {
		if len(t) > alert.MaxName {
			return fmt.Errorf("service, version, environment and by may have %d bytes each", alert.MaxName)
		}
	}
	if len(d.Summary) > alert.MaxText || len(d.Link) > alert.MaxLabel {
		return fmt.Errorf("summary may have %d bytes, link %d", alert.MaxText, alert.MaxLabel)
	}
	if d.Link != "" && !strings.HasPrefix(d.Link, "https://") && !strings.HasPrefix(d.Link, "http://") {
		return fmt.Errorf("link must begin with https:// or http://")
	}
	if !d.At.IsZero() && d.At.Year() < 1970 {
		return fmt.Errorf("at is in the year %d; it must be 1970 or later", d.At.Year())
	}
	if d.At.IsZero() || d.At.After(heard.Add(time.Minute)) {
		d.At = heard.Time
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
