package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Past is a store of what was: the depth of the queue, what the tanks held, and what the consumers logged. What was
// before it began it makes up, as quiet as the Merrow Line is by night.
type Past struct {
	URL string

	fleet *Fleet
	began time.Time
	mu    sync.Mutex
	known []moment
	http  *http.Server
	stop  context.CancelFunc
}

// moment is what was seen at a time.
type moment struct {
	at    time.Time
	depth float64
	stuck string
	tanks [2]int
}

// pastEvery is how often it looks, and pastKept how many moments it keeps.
const (
	pastEvery = 5 * time.Second
	pastKept  = 4 * 3600 / 5
)

// StartPast starts the store on an address.
func StartPast(addr string, f *Fleet) (*Past, error) {
	p := &Past{URL: "http://" + addr, fleet: f, began: time.Now()}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /depth", p.depths)
	mux.HandleFunc("GET /tanks", p.tanks)
	mux.HandleFunc("GET /log", p.log)
	var err error
	if p.http, err = serve(addr, mux, func(net.Conn) {}); err != nil {
		return nil, fmt.Errorf("start the store of the past: %w", err)
	}
	ctx, stop := context.WithCancel(context.Background())
	p.stop = stop
	go p.look(ctx)
	return p, nil
}

// Stop ends it.
func (p *Past) Stop() {
	p.stop()
	p.http.Close() //nolint:errcheck // it ends either way
}

func (p *Past) look(ctx context.Context) {
	t := time.NewTicker(pastEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case at := <-t.C:
			depth, stuck := p.fleet.Queue.Depth()
			m := moment{at: at, depth: float64(depth), stuck: stuck, tanks: p.fleet.Fuel.held()}
			p.mu.Lock()
			if p.known = append(p.known, m); len(p.known) > pastKept {
				p.known = p.known[1:]
			}
			p.mu.Unlock()
		}
	}
}

// moments gives what was seen between the two times of a request, in seconds since 1970.
func (p *Past) moments(r *http.Request) ([]moment, error) {
	var of [2]time.Time
	for i, name := range []string{"from", "until"} {
		s, err := strconv.ParseInt(r.URL.Query().Get(name), 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%s must be seconds since 1970", name)
		}
		of[i] = time.Unix(s, 0)
	}
	const most = 24 * time.Hour
	if of[1].Before(of[0]) || of[1].Sub(of[0]) > most {
		return nil, fmt.Errorf("from and until are a day apart at most")
	}
	var out []moment
	for at := of[0].Truncate(30 * time.Second); at.Before(p.began) && at.Before(of[1]); at = at.Add(30 * time.Second) {
		out = append(out, quietMoment(at))
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, m := range p.known {
		if !m.at.Before(of[0]) && !m.at.After(of[1]) {
			out = append(out, m)
		}
	}
	return out, nil
}

// quietMoment is what a quiet night looks like.
func quietMoment(at time.Time) moment {
	wave := math.Sin(float64(at.Unix()) / 400)
	return moment{at: at, depth: math.Round(usual + 6*wave), tanks: [2]int{74, 81}}
}

func (p *Past) given(w http.ResponseWriter, r *http.Request, write func([]moment)) {
	list, err := p.moments(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	write(list)
}

// depths answers in JSON of its own.
func (p *Past) depths(w http.ResponseWriter, r *http.Request) {
	p.given(w, r, func(list []moment) {
		points := make([][2]float64, len(list))
		for i, m := range list {
			points[i] = [2]float64{float64(m.at.Unix()), m.depth}
		}
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).
			Encode(map[string]any{"queue": p.fleet.Queue.Name, "points": points})
		//nolint:errcheck // gone
	})
}

// tanks answers in OpenMetrics.
func (p *Past) tanks(w http.ResponseWriter, r *http.Request) {
	p.given(w, r, func(list []moment) {
		w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0")
		fmt.Fprint(w, "# TYPE tank_percent gauge\n")
		for i := range 2 {
			for _, m := range list {
				fmt.Fprintf(w, "tank_percent{tank=\"%d\"} %d %d\n", i+1, m.tanks[i], m.at.Unix())
			}
		}
		fmt.Fprint(w, "# EOF\n")
	})
}

// log answers with what the consumers logged.
func (p *Past) log(w http.ResponseWriter, r *http.Request) {
	p.given(w, r, func(list []moment) {
		var b strings.Builder
		for i, m := range list {
			at := m.at.UTC().Format(time.RFC3339)
			if m.stuck != "" {
				fmt.Fprintf(
					&b,
					"%s berth-consumer-%d cannot read message %s: unexpected end at byte %d\n",
					at,
					1+i%2,
					m.stuck,
					200+i%13,
				)
				continue
			}
			fmt.Fprintf(&b, "%s berth-consumer-%d assigned berth %d to \"%s\" in %d ms\n", at, 1+i%2, 1+i%14,
				[]string{"Skua", "Petrel", "Merrow", "Tern"}[i%4], 20+i%17)
		}
		fmt.Fprint(w, b.String())
	})
}
