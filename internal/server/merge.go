package server

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"urgentis/internal/store"
)

// rawBody is where keepable keeps a request's body as it came: a merge tells what is null from what is not given.
const rawBody = "body as it came"

// merged is a thing as a change left it, and what that changed.
type merged[A any] struct {
	Item    A
	Changed []string
}

// version names the state of a thing: what If-Match is compared with.
func version(item any) string {
	b, err := json.Marshal(item)
	if err != nil {
		panic(err) // things of the API are always JSON
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

// merge changes a row, or adds it, by the request's body as a merge patch (RFC 7396), in one transaction with its
// audit. row is what a new thing has; show gives a row as the API does; accept judges the merged thing and puts it
// into the row.
func merge[R, A any](ctx context.Context, s *Server, noun, name, match string, row *R, show func(R) A, accept func(*gorm.DB, A) error) (merged[A], error) {
	var out merged[A]
	patch, ok := ctx.Value(rawBody).([]byte)
	if !ok {
		return out, errors.New("a merge without its body")
	}
	err := s.Store.Tx(ctx, func(tx *gorm.DB) error {
		// Two that add it at once come one after the other, too.
		if err := tx.Exec("select pg_advisory_xact_lock(hashtextextended(?, 6))", noun+" "+name).Error; err != nil {
			return err
		}
		err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", name).Take(row).Error
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		before := show(*row)
		if match = strings.Trim(match, `"`); match != "" && (err != nil || match != "*" && match != shown(before)["version"]) {
			return &Problem{http.StatusPreconditionFailed, "other-version", "it was changed meanwhile; read it again", nil}
		}
		after, wrong := patched(before, patch)
		if wrong != nil {
			return wrong
		}
		if wrong := accept(tx, after); wrong != nil {
			return wrong
		}
		out.Item = show(*row)
		out.Changed = differences(shown(before), shown(out.Item), err != nil)
		if len(out.Changed) == 0 {
			return nil
		}
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return store.Audit(tx, who(ctx).Name, noun+".set", name, strings.Join(out.Changed, ", "))
	})
	return out, err
}

func patched[A any](before A, patch []byte) (after A, err error) {
	doc, err := json.Marshal(before)
	if err != nil {
		return after, err
	}
	doc, err = jsonpatch.MergePatch(doc, patch)
	if err != nil {
		return after, bad("bad-request", "the change cannot be read: %s", err)
	}
	if err := json.Unmarshal(doc, &after); err != nil {
		return after, bad("bad-request", "the change cannot be read: %s", err)
	}
	return after, nil
}

func shown(item any) map[string]any {
	var out map[string]any
	if b, err := json.Marshal(item); err == nil {
		_ = json.Unmarshal(b, &out)
	}
	return out
}

// differences says in words what changed, in the order of names.
func differences(before, after map[string]any, added bool) []string {
	all := maps.Clone(before)
	maps.Copy(all, after)
	out := []string{}
	for _, k := range slices.Sorted(maps.Keys(all)) {
		was, is := before[k], after[k]
		switch {
		case k == "version" || k == "name" || written(was) == written(is) && !added:
		case is == nil:
			out = append(out, fmt.Sprintf("%s taken away (was %s)", k, written(was)))
		case was == nil || added:
			out = append(out, k+" "+written(is))
		default:
			out = append(out, fmt.Sprintf("%s %s (was %s)", k, written(is), written(was)))
		}
	}
	return out
}

func written(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}
