package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
)

// files are the commands for the store of files.
func (a *app) files() *cobra.Command {
	list := lister(a, "List the files that runbooks can put on targets", "urgentis file list",
		"No files. Put one there with: urgentis file put PATH",
		[]string{"name", "size", "sha256", "by", "put"},
		func(cmd *cobra.Command, cl *client) (*[]api.Attachment, error) {
			r, err := check(cl.ListStoredWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Attachment) []string {
			return []string{
				x.Name,
				fmt.Sprint(x.Size),
				x.Digest[:min(16, len(x.Digest))] + "…",
				x.AddedBy,
				ago(x.AddedAt),
			}
		})
	remove := remover(a, "Take a file out of the store", "urgentis file remove feedtool.tar.gz", "Removed.",
		(*client).RemoveStoredWithResponse)
	return noun("file", "Files that runbooks put on targets", a.filePut(), list, a.offers(a.fileGet(), storedNames),
		a.offers(remove, storedNames))
}

func (a *app) filePut() *cobra.Command {
	var name string
	put := doer(a, "put PATH", "Put a file into the store, up to 256 MB, in the place of what was there under its name",
		"urgentis file put build/feedtool.tar.gz --name feedtool.tar.gz", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			f, err := os.Open(args[0])
			if err != nil {
				return nil, "", usage("%s", err)
			}
			defer f.Close() //nolint:errcheck // it was only read
			if name == "" {
				name = filepath.Base(args[0])
			}
			if strings.ContainsAny(name, "/\\") {
				return nil, "", usage("a file is named with letters, digits, . _ and -, as in --name feedtool.tar.gz")
			}
			r, err := check(cl.PutStoredWithBodyWithResponse(cmd.Context(), name, "application/octet-stream", f))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200, fmt.Sprintf(
				"%s is in the store: %d bytes, SHA-256 %s\nSend it with: send: {to: PATH, file: %s}",
				name,
				r.JSON200.Size,
				r.JSON200.Digest,
				name,
			), nil
		})
	put.Flags().StringVar(&name, "name", "", "the `NAME` in the store (default: that of the file)")
	return put
}

func (a *app) fileGet() *cobra.Command {
	var into string
	c := verb("get NAME", "Fetch a file of the store", "urgentis file get feedtool.tar.gz --to feedtool.tar.gz",
		cobra.ExactArgs(1), a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			return a.fetch(cmd.Context(), cl, "/api/v1/files/"+args[0], into)
		}))
	c.Flags().StringVar(&into, "to", "-", "the `FILE` to write; - for standard output")
	return c
}

func storedNames(ctx context.Context, cl *client) []string {
	r, err := check(cl.ListStoredWithResponse(ctx))
	return each(r.JSON200, err, func(x api.Attachment) string { return x.Name })
}
