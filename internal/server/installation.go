package server

import (
	"context"
	"errors"
	"html/template"
	"io/fs"
	"net/http"
	"path"
	"sort"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"urgentis/api"
	"urgentis/internal/app"
	"urgentis/internal/meter"
)

// GetStatus implements api.StrictServerInterface.
func (s *Server) GetStatus(ctx context.Context, _ api.GetStatusRequestObject) (api.GetStatusResponseObject, error) {
	st, err := s.App.Status(ctx, who(ctx))
	return api.GetStatus200JSONResponse(apiStatus(st)), err
}

func apiStatus(st app.Status) api.Status {
	return api.Status{
		Version: st.Version, Halted: st.Halted, HaltedBy: st.HaltedBy, Instances: st.Instances,
		OpenIncidents: st.OpenIncidents,
		ActiveRuns:    st.ActiveRuns, OpenGates: st.OpenGates, OpenQuestions: st.OpenQuestions,
		Undelivered: st.Undelivered,
	}
}

// SetHalt implements api.StrictServerInterface.
func (s *Server) SetHalt(ctx context.Context, r api.SetHaltRequestObject) (api.SetHaltResponseObject, error) {
	st, err := s.App.SetHalt(ctx, who(ctx), r.Body.Halted, r.Body.Because)
	return api.SetHalt200JSONResponse(apiStatus(st)), err
}

// ListInstances implements api.StrictServerInterface.
func (s *Server) ListInstances(
	ctx context.Context,
	_ api.ListInstancesRequestObject,
) (api.ListInstancesResponseObject, error) {
	list, err := s.App.Instances(ctx, who(ctx))
	return api.ListInstances200JSONResponse(mapped(list, func(i app.Instance) api.Instance {
		return api.Instance{
			Id: i.ID, Host: i.Host, Pid: i.PID, Version: i.Version, State: api.InstanceState(i.State),
			BegunAt: i.BegunAt.UTC(), BeatAt: i.BeatAt.UTC(), ClockSkewMs: i.SkewMS,
		}
	})), err
}

// BuryInstance implements api.StrictServerInterface.
func (s *Server) BuryInstance(
	ctx context.Context,
	r api.BuryInstanceRequestObject,
) (api.BuryInstanceResponseObject, error) {
	return api.BuryInstance204Response{}, s.App.BuryInstance(ctx, who(ctx), r.Id)
}

// metrics answers in OpenMetrics.
func (s *Server) metrics() gin.HandlerFunc {
	reg := prometheus.NewRegistry()
	reg.MustRegister(
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		&gauges{s},
	)
	return gin.WrapH(
		promhttp.HandlerFor(prometheus.Gatherers{reg, meter.Registry}, promhttp.HandlerOpts{EnableOpenMetrics: true}),
	)
}

type gauges struct{ s *Server }

func desc(name, help string) *prometheus.Desc {
	return prometheus.NewDesc("urgentis_"+name, help, nil, nil)
}

// Describe implements prometheus.Collector; what is collected is found out when it is.
func (g *gauges) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (g *gauges) Collect(ch chan<- prometheus.Metric) {
	st, err := g.s.App.StatusNow(context.Background())
	if err != nil {
		ch <- prometheus.NewInvalidMetric(desc("up", "Whether the database answers."), err)
		return
	}
	halted := int64(0)
	if st.Halted {
		halted = 1
	}
	for _, m := range []struct {
		name, help string
		v          int64
	}{
		{"instances", "Instances that work on this database.", int64(st.Instances)},
		{"halted", "1 while all changes are halted.", halted},
		{"incidents_open", "Open incidents.", st.OpenIncidents},
		{"runs_active", "Runs that are not over.", st.ActiveRuns},
		{"gates_open", "Gates that wait for a decision.", st.OpenGates},
		{"questions_open", "Questions that wait for an answer.", st.OpenQuestions},
		{"deliveries_queued", "Messages that are not delivered yet.", st.Undelivered},
	} {
		ch <- prometheus.MustNewConstMetric(desc(m.name, m.help), prometheus.GaugeValue, float64(m.v))
	}
}

var referencePage = template.Must(
	template.New("api").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>{{.Title}} API</title>
<style>body{font:15px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;
	color:#1c2430;background:#fff}code{font-family:monospace}
h2{margin:2rem 0 .3rem;font-size:1.1rem}table{border-collapse:collapse;width:100%}
	td{padding:.25rem .8rem .25rem 0;vertical-align:top;border-bottom:1px solid #dde}
@media(prefers-color-scheme:dark){body{color:#dfe5ee;background:#12161d}td{border-color:#2a3240}a{color:#8fb8ff}}
	</style>
<h1>{{.Title}} API {{.Version}}</h1><p>The whole document: <a href="/openapi.yaml">openapi.yaml</a>.</p>
{{range .Groups}}<h2>{{.Name}}</h2><table>{{range .Ops}}<tr><td><code>{{.Method}}</code><td><code>{{.Path}}</code>
	<td>{{.Summary}}<td>{{.Role}}{{end}}</table>{{end}}`),
)

// reference is a page to read the API by.
func (s *Server) reference(doc *openapi3.T) gin.HandlerFunc {
	type op struct{ Method, Path, Summary, Role string }
	type group struct {
		Name string
		Ops  []op
	}
	groups := make([]group, len(doc.Tags))
	for i, t := range doc.Tags {
		groups[i].Name = t.Name
		for p, item := range doc.Paths.Map() {
			for m, o := range item.Operations() {
				if len(o.Tags) > 0 && o.Tags[0] == t.Name {
					role, _ := o.Extensions["x-role"].(string)
					groups[i].Ops = append(groups[i].Ops, op{m, p, o.Summary, role})
				}
			}
		}
		sort.Slice(groups[i].Ops, func(a, b int) bool {
			x, y := groups[i].Ops[a], groups[i].Ops[b]
			return x.Path+x.Method < y.Path+y.Method
		})
	}
	return func(c *gin.Context) {
		c.Header("Content-Type", "text/html; charset=utf-8")
		if err := referencePage.Execute(c.Writer, map[string]any{"Title": doc.Info.Title,
			"Version": doc.Info.Version, "Groups": groups}); err != nil {
			s.Log.Warn("write a page", "error", err)
		}
	}
}

// console serves the web console: its files, and its first page for every address that it has a page for.
func (s *Server) console(c *gin.Context) {
	p := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
	if strings.HasPrefix(p, "api/") || strings.HasPrefix(p, "in/") {
		problem(c, &Problem{http.StatusNotFound, "not-found", "there is no such address", nil})
		return
	}
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		problem(c, &Problem{http.StatusMethodNotAllowed, "method", "that cannot be done to this address", nil})
		return
	}
	if s.Console == nil {
		c.String(http.StatusOK, "The console is not built into this program; run make build.\n")
		return
	}
	if p != "" {
		if i, err := fs.Stat(s.Console, p); err == nil && !i.IsDir() {
			if strings.HasPrefix(p, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			c.FileFromFS(p, http.FS(s.Console))
			return
		} else if !errors.Is(err, fs.ErrNotExist) && err != nil {
			s.problem(c, err)
			return
		}
	}
	b, err := fs.ReadFile(s.Console, "index.html")
	if err != nil {
		c.String(http.StatusOK, "The console is not built into this program; run make build.\n")
		return
	}
	c.Header("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", b)
}
