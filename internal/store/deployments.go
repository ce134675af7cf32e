package store

import (
	"time"

	"urgentis/core/access"
	"urgentis/core/source"
)

// Deployment is a change that somebody made to a service, as a source reported it.
type Deployment struct {
	ID          string `gorm:"primaryKey"`
	Source      string
	Service     string
	Version     string
	Environment string
	Summary     string
	By          string
	Link        string
	At          time.Time
	ReceivedAt  time.Time
}

// NewDeployment is a deployment as it is kept.
func NewDeployment(source string, d source.Deployment, now time.Time) *Deployment {
	return &Deployment{
		ID:          NewID("d"),
		Source:      source,
		Service:     d.Service,
		Version:     d.Version,
		Environment: d.Environment,
		Summary:     d.Summary,
		By:          d.By,
		Link:        d.Link,
		At:          d.At,
		ReceivedAt:  now,
	}
}

// AddDeployments keeps deployments.
func (tx *Tx) AddDeployments(rows []*Deployment) error { return tx.db.Create(&rows).Error }

// maxDeployments bounds a list of deployments.
const maxDeployments = 100

// Deployments lists deployments, newest first; service "" is every service.
func (tx *Tx) Deployments(s access.Scope, service string) ([]Deployment, error) {
	where, args := and("true", nil, "service", service)
	where, args = within(s, where, args)
	var out []Deployment
	err := tx.db.Order("at desc, id").Where(where, args...).Limit(maxDeployments).Find(&out).Error
	return out, err
}

// DeploymentsOf lists the deployments of services between two times, newest first.
func (tx *Tx) DeploymentsOf(services []string, from, to time.Time) ([]Deployment, error) {
	return scan[Deployment](tx, `select * from deployment where service = any (?::text[]) and at between ? and ?
		order by at desc, id limit ?`, array{services}, from, to, maxDeployments)
}
