package browser

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/tracing"
	"github.com/chromedp/chromedp"
)

// Throttle makes the page's processor so many times slower.
func (p *Page) Throttle(times float64) error {
	_, err := chromedp.Call(p.ctx, emulation.SetCPUThrottlingRate, emulation.SetCPUThrottlingRateParams{Rate: times})
	return err
}

// Before has a script run in each page that is opened from here on, before its own.
func (p *Page) Before(script string) error {
	_, err := chromedp.Call(p.ctx, page.AddScriptToEvaluateOnNewDocument,
		page.AddScriptToEvaluateOnNewDocumentParams{Source: script})
	return err
}

// traced is an event of Chromium's own trace, as far as it is read here. TS is in microseconds.
type traced struct {
	Name string  `json:"name"`
	Ph   string  `json:"ph"`
	TS   float64 `json:"ts"`
	Args struct {
		Frame struct {
			State string `json:"state"`
			Host  int64  `json:"layer_tree_host_id"`
			N     int64  `json:"frame_sequence"`
		} `json:"frame_reporter"`
	} `json:"args"`
}

// Frames does something and counts, by Chromium's own trace, the frames that were shown in each second of it; it gives
// those of the worst whole second.
func (p *Page) Frames(do func() error) (worst int, err error) {
	var mu sync.Mutex
	var events []traced
	// Whoever listens once hears each trace of the page that is to come.
	done := make(chan struct{})
	ended := sync.OnceFunc(func() { close(done) })
	err = chromedp.Listen(p.ctx, func(ev any) {
		switch e := ev.(type) {
		case *tracing.EventDataCollected:
			mu.Lock()
			defer mu.Unlock()
			for _, v := range e.Value {
				var t traced
				if json.Unmarshal(v, &t) == nil && t.Name == "PipelineReporter" {
					events = append(events, t)
				}
			}
		case *tracing.EventTracingComplete:
			ended()
		}
	})
	if err != nil {
		return 0, err
	}
	if _, err = chromedp.Call(p.ctx, tracing.Start, tracing.StartParams{
		TransferMode: "ReportEvents",
		TraceConfig:  &tracing.TraceConfig{IncludedCategories: []string{"cc,benchmark", "cc", "benchmark"}},
	}); err != nil {
		return 0, fmt.Errorf("begin to trace: %w", err)
	}
	if err = do(); err != nil {
		return 0, err
	}
	if _, err = chromedp.Call(p.ctx, tracing.End, struct{}{}); err != nil {
		return 0, fmt.Errorf("end the trace: %w", err)
	}
	select {
	case <-done:
	case <-time.After(patience):
		return 0, fmt.Errorf("the trace does not end")
	}
	return worstSecond(events)
}

// worstSecond counts the frames that were shown in each whole second from the first to the last of them. A frame may be
// told of more than once, and the browser's own picture around the page is one of its own: the page's is that which was
// drawn most.
func worstSecond(events []traced) (int, error) {
	hosts := map[int64]map[int64]float64{}
	var page map[int64]float64
	for _, e := range events {
		f := e.Args.Frame
		if f.State != "STATE_PRESENTED_ALL" && f.State != "STATE_PRESENTED_PARTIAL" {
			continue
		}
		if hosts[f.Host] == nil {
			hosts[f.Host] = map[int64]float64{}
		}
		hosts[f.Host][f.N] = e.TS / 1e6
		if len(hosts[f.Host]) > len(page) {
			page = hosts[f.Host]
		}
	}
	at := slices.Sorted(maps.Values(page))
	if len(at) < 2 {
		return 0, fmt.Errorf("the trace has %d frames of %d events", len(at), len(events))
	}
	worst := -1
	for from := at[0]; from+1 <= at[len(at)-1]; from += 0.25 {
		n := 0
		for _, t := range at {
			if t >= from && t < from+1 {
				n++
			}
		}
		if worst < 0 || n < worst {
			worst = n
		}
	}
	return max(0, worst), nil
}
