package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) listener() *cobra.Command {
	return noun("listener", "What listens for syslog, traps and mail", a.listenerList())
}

func (a *app) listenerList() *cobra.Command {
	return lister(
		a,
		"List what listens for syslog, traps and mail, and what it heard since it began",
		"urgentis listener list",
		"Nothing listens but HTTP. Switch it on where the service runs, such as: "+
			"urgentis serve --syslog-udp 0.0.0.0:514",
		[]string{"listener", "host", "address", "heard", "kept", "strange", "lost", "waiting", "noted"},
		func(cmd *cobra.Command, cl *client) (*[]api.Listener, error) {
			r, err := check(cl.ListListenersWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(l api.Listener) []string {
			strange := fmt.Sprint(l.Strange)
			if l.Stranger != "" {
				strange += " (last from " + l.Stranger + ")"
			}
			return []string{
				l.Name, l.Host, l.Address, fmt.Sprint(l.Heard), fmt.Sprint(l.Kept), strange, fmt.Sprint(l.Lost),
				fmt.Sprintf("%d kB", l.Waiting>>10), ago(l.NotedAt),
			}
		},
	)
}
