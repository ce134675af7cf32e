package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) deployment() *cobra.Command {
	var p api.ListDeploymentsParams
	c := lister(a, "List what was changed of services, as sources reported it, newest first",
		"urgentis deployment list --service berth-queue",
		"No deployments. A source with reports: deployments tells of them: see docs/sources.md.",
		[]string{"at", "service", "version", "environment", "by", "source", "what"},
		func(cmd *cobra.Command, cl *client) (*[]api.Deployment, error) {
			r, err := check(cl.ListDeploymentsWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		},
		func(d api.Deployment) []string {
			return []string{
				ago(d.At),
				d.Service,
				orDash(d.Version),
				orDash(d.Environment),
				orDash(d.By),
				d.Source,
				d.Summary,
			}
		})
	c.Flags().StringVar(&p.Service, "service", "", "only those of a `SERVICE`")
	a.offersFlag(c, "service", serviceNames)
	return noun("deployment", "What was changed of services", c)
}

// changedBefore prints what was changed shortly before an incident.
func (a *app) changedBefore(list []api.Deployment) {
	if len(list) == 0 {
		return
	}
	a.say("\n%s\n", a.paint(bold, "Changed from a day before:"))
	for _, d := range list {
		words := []string{d.Service}
		for _, w := range []string{d.Version, d.Environment, d.Summary} {
			if w != "" {
				words = append(words, w)
			}
		}
		a.say("  %s  %s", d.At.UTC().Format("2006-01-02 15:04 MST"), strings.Join(words, " "))
		if d.By != "" {
			a.say(" by %s", d.By)
		}
		a.say("\n")
	}
}
