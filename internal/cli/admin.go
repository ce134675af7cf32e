package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"urgentis/core/access"
	"urgentis/internal/service"
)

// admin makes people on the machine of the service itself, with the database and no sign-in: the first administrator,
// or one more when nobody can sign in any more.
func (a *app) admin() *cobra.Command {
	var has []string
	var password string
	c := verb("admin NAME", "On the machine itself: make a person who can sign in, the first one too",
		"urgentis admin iva\nsudo -u urgentis urgentis admin mara --role approver --role operator", cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			c, err := a.config("urgentis")
			if err != nil {
				return err
			}
			rs, err := roles(has)
			if err != nil {
				return err
			}
			if password, err = a.newPassword(password, args[0]); err != nil {
				return err
			}
			list := make([]access.Role, len(rs))
			for i, r := range rs {
				list[i] = access.Role(r)
			}
			if err := service.SetPerson(cmd.Context(), c, args[0], password, list); err != nil {
				return err
			}
			return a.done(fmt.Sprintf("%s can sign in (%s).", args[0], joined(rs)))
		})
	f := c.Flags()
	f.StringSliceVar(
		&has,
		"role",
		[]string{"admin"},
		"a `ROLE`: viewer, responder, operator, approver, author or admin; repeatable",
	)
	f.StringVar(
		&password,
		"password",
		"",
		"a `PASSWORD` of at least 10 characters (asked for without it; URGENTIS_PASSWORD)",
	)
	f.String(
		"data-dir",
		"",
		"the `FOLDER` in which the service keeps its data (default: ~/.local/share/urgentis, of root "+
			"/var/lib/urgentis)",
	)
	f.String("database", "", "the service's PostgreSQL `ADDRESS` (default: the private one under --data-dir)")
	complete(c, "role", "viewer", "responder", "operator", "approver", "author", "admin")
	c.Long = "It speaks to the service's database, and asks nobody: whoever can read that can do all. Run it as the " +
		"account\n" +
		"that runs the service, beside it or while it is down."
	return c
}
