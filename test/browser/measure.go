package browser

import (
	"encoding/json"
	"fmt"
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
		} `json:"frame_reporter"`
	} `json:"args"`
}

// Frames does something and counts, by Chromium's own trace, the frames that were shown in each second of it; it gives
// those of the worst whole second.
func (p *Page) Frames(do func() error) (worst int, err error) {
	var mu sync.Mutex
	var events []traced
	done := make(chan struct{})
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
			close(done)
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

// worstSecond counts the frames that were shown in each whole second from the first to the last of them.
func worstSecond(events []traced) (int, error) {
	var at []float64
	for _, e := range events {
		if s := e.Args.Frame.State; s == "STATE_PRESENTED_ALL" || s == "STATE_PRESENTED_PARTIAL" {
			at = append(at, e.TS/1e6)
		}
	}
	if len(at) < 2 {
		return 0, fmt.Errorf("the trace has %d frames of %d events", len(at), len(events))
	}
	slices.Sort(at)
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
