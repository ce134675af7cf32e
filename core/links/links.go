package links

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"urgentis/core/expr"
)

// Link is a page outside.
type Link struct {
	Title string `json:"title"`
	// Address begins with https:// or http:// and a host; behind that it may have holes such as {{ service }}.
	Address string `json:"address"`
}

const (
	// Most is how many links a service or a runbook may have.
	Most = 16
	// MaxTitle and MaxAddress bound them in bytes.
	MaxTitle, MaxAddress = 80, 1000
)

// Sight is what somebody looks at.
type Sight struct {
	Service  string
	Incident int64 // 0 for none
	From     time.Time
	Until    time.Time
}

// where has the names that holes know: texts, a number, and two times.
var where = expr.InReport.With("service", "").With("incident", "").With("from", "").With("until", "")

// Check tells what is wrong with a link; "" for nothing.
func (l Link) Check() string {
	switch {
	case strings.TrimSpace(l.Title) == "" || strings.ContainsAny(l.Title, "\r\n"):
		return "a link needs a title of one line"
	case len(l.Title) > MaxTitle:
		return fmt.Sprintf("the title of a link may have %d bytes", MaxTitle)
	case len(l.Address) > MaxAddress:
		return fmt.Sprintf("the address of a link may have %d bytes", MaxAddress)
	}
	_, err := l.compile()
	if err != nil {
		return err.Error()
	}
	return ""
}

func (l Link) compile() (*expr.Template, error) {
	rest, secure := strings.CutPrefix(l.Address, "https://")
	if !secure {
		if rest, secure = strings.CutPrefix(l.Address, "http://"); !secure {
			return nil, fmt.Errorf("the address of “%s” begins with https:// or http://", l.Title)
		}
	}
	c, err := expr.NewCompiler(expr.Schema{})
	if err != nil {
		return nil, err
	}
	t, err := c.CompileTemplate(l.Address, where)
	if err != nil {
		return nil, fmt.Errorf("the address of “%s”: %w; it knows service, incident, from and until", l.Title, err)
	}
	host, _, _ := strings.Cut(rest, "/")
	if u, err := url.Parse("https://" + host); len(t.HostHoles()) > 0 || strings.Contains(host, "{{") ||
		err != nil || u.Hostname() == "" || u.User != nil {
		return nil, fmt.Errorf("the address of “%s” needs a host of its own: only what stands behind it may have holes",
			l.Title)
	}
	return t, nil
}

// Fill gives links with their addresses filled in. One that cannot be filled in is left out, and why is told.
func Fill(list []Link, s Sight) (out []Link, wrong []error) {
	scope := &expr.Scope{Names: map[string]any{"service": s.Service, "incident": s.Incident, "from": s.From.UTC(),
		"until": s.Until.UTC()}}
	for _, l := range list {
		t, err := l.compile()
		if err == nil {
			l.Address, err = t.URL(scope)
		}
		if err != nil {
			wrong = append(wrong, fmt.Errorf("the link “%s”: %w", l.Title, err))
			continue
		}
		out = append(out, l)
	}
	return out, wrong
}
