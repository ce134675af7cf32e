// Package meter counts what the service does, for monitors. All of it is of this process; what is open in the whole
// installation is asked from the database when it is collected.
package meter

import "github.com/prometheus/client_golang/prometheus"

// Registry has all that is counted here.
var Registry = prometheus.NewRegistry()

func counter(name, help string, labels ...string) *prometheus.CounterVec {
	c := prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "urgentis", Name: name, Help: help}, labels)
	Registry.MustRegister(c)
	return c
}

func gauge(name, help string) *prometheus.GaugeVec {
	g := prometheus.NewGaugeVec(prometheus.GaugeOpts{Namespace: "urgentis", Name: name, Help: help}, nil)
	Registry.MustRegister(g)
	return g
}

func histogram(name, help string, buckets []float64, labels ...string) *prometheus.HistogramVec {
	h := prometheus.NewHistogramVec(
		prometheus.HistogramOpts{Namespace: "urgentis", Name: name, Help: help, Buckets: buckets}, labels)
	Registry.MustRegister(h)
	return h
}

// Buckets in seconds: of what should take milliseconds, of what runs on hosts, and of what waits for people.
var (
	quick  = []float64{.001, .002, .005, .01, .02, .05, .1, .2, .5, 1, 2, 5, 10}
	onHost = []float64{.01, .05, .1, .5, 1, 5, 10, 30, 60, 300, 900}
	people = []float64{10, 30, 60, 120, 300, 600, 1200, 1800, 3600, 7200}
)

// What is counted.
var (
	Alerts = counter("alerts_total", "Reports of alerts, by what they changed.", "change")
	Heard  = counter(
		"heard_total",
		"Messages of syslog, SNMP and mail that no alert was made of: unparsed, unparsed-full (lost) or revoked.",
		"what",
	)
	Damaged = counter(
		"heard_damaged_total",
		"Damages of streams of syslog, by their kind; each counts as a message that is lost.",
		"kind",
	)
	Starts = counter(
		"starts_total",
		"Starts of runbooks by alerts: started, refused, held until the alert stayed so, or dropped as it did not.",
		"result",
	)
	Steps = counter(
		"steps_total",
		"Attempts on targets, by kind (look, change, undo) and how they ended.",
		"kind",
		"outcome",
	)
	StepSeconds = histogram("step_seconds", "How long attempts on targets took.", onHost, "kind")
	Runs        = counter("runs_ended_total", "Runs that ended, by their state.", "state")
	GateSeconds = histogram("gate_seconds", "How long gates waited for their decision.", people, "decision")
	Deliveries  = counter("deliveries_total", "Tries to deliver a message: sent, again, or failed for good.", "result")
	Unreached   = counter("notices_unreached_total", "Things of which nobody could be told.")
	ClockSkew   = gauge("clock_skew_seconds",
		"How far the clock of the machine is ahead of the database's, which counts.")
	BeatSeconds = histogram(
		"beat_lag_seconds",
		"The time from one beat of the instance to the next, beyond the second that it should be.",
		quick,
	)
	TimerLag = histogram("timer_lag_seconds", "How late due waits were taken.", quick)
	QueueLag = histogram("queue_lag_seconds", "How long doorbells waited in the queue.", quick)
)
