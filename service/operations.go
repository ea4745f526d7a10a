package service

// What operators watch: whether the service lives and is ready, and how it fares.

import (
	"context"
	"net/http"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// metrics are counted for Prometheus. None has names of people.
type metrics struct {
	registry    *prometheus.Registry
	decisions   *prometheus.CounterVec
	latency     prometheus.Histogram
	stateErrors prometheus.Counter
	logErrors   prometheus.Counter
	loaded      prometheus.Gauge
	signals     *prometheus.CounterVec
	forwards    *prometheus.CounterVec
	messages    *prometheus.CounterVec
}

func newMetrics(s *Service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		decisions: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "brisk_decisions_total",
			Help: "Decisions, by outcome, action and caller."}, []string{"outcome", "action", "caller"}),
		latency: prometheus.NewHistogram(prometheus.HistogramOpts{Name: "brisk_decision_seconds", Help: "How long a decision took, memory included.",
			Buckets: []float64{.0001, .00025, .0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10}}),
		stateErrors: prometheus.NewCounter(prometheus.CounterOpts{Name: "brisk_state_errors_total", Help: "How often the state could not be asked, or could not keep something."}),
		logErrors:   prometheus.NewCounter(prometheus.CounterOpts{Name: "brisk_signon_log_errors_total", Help: "Sign-ons that could not be logged."}),
		loaded:      prometheus.NewGauge(prometheus.GaugeOpts{Name: "brisk_rulebook_loaded_timestamp_seconds", Help: "When the rulebook that decides was loaded."}),
	}
	m.signals = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "brisk_signals_total",
		Help: "Signals, by source, event and what became of them."}, []string{"source", "event", "result"})
	m.forwards = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "brisk_forwarded_total",
		Help: "Requests of web gateways, by what became of them."}, []string{"result"})
	m.messages = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "brisk_messages_total",
		Help: "Tries to send alerts and digests, by what became of them."}, []string{"result"})
	m.loaded.Set(float64(time.Now().Unix()))
	gauge := func(name, help string, value func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value)
	}
	m.registry.MustRegister(m.decisions, m.latency, m.stateErrors, m.logErrors, m.loaded, m.signals, m.forwards, m.messages, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		gauge("brisk_rulebook_stale_seconds", "Since when the rulebook's folder has not been fit to be loaded; 0 is that it is.", func() float64 {
			if stale := s.stale.Load(); stale != nil {
				return time.Since(stale.since).Seconds()
			}
			return 0
		}),
		gauge("brisk_requests_in_flight", "Requests that are being answered.", func() float64 { return float64(s.inFlight.Load()) }),
		gauge("brisk_state_queue_length", "Changes that wait to be written to the state.", func() float64 { return float64(s.memory.Waiting()) }))
	return m
}

// decided counts a decision.
func (m *metrics) decided(rb *rulebook.Rulebook, q *question, caller string, seconds float64) {
	action := q.Action
	if !rb.Actions[action] { // what somebody made up has no line of its own
		action = "other"
	}
	m.decisions.WithLabelValues(q.decision.Outcome.String(), action, caller).Inc()
	m.latency.Observe(seconds)
}

// signal counts a signal.
func (m *metrics) signal(source, event, result string) {
	m.signals.WithLabelValues(source, event, result).Inc()
}

// forwarded counts a request of a web gateway.
func (m *metrics) forwarded(result string) { m.forwards.WithLabelValues(result).Inc() }

// message counts a try to send something.
func (m *metrics) message(result string) { m.messages.WithLabelValues(result).Inc() }

// Operations answers those who keep the service running: /livez, /readyz and /metrics. Who may ask is for the
// listener to say.
func (s *Service) Operations() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /livez", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	mux.HandleFunc("GET /readyz", s.ready)
	mux.Handle("GET /metrics", promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{}))
	return mux
}

// readiness is what /readyz answers.
type readiness struct {
	Ready    bool   `json:"ready"`
	State    string `json:"state"`
	Rulebook string `json:"rulebook"` // the digest of the one that decides
	Stale    string `json:"stale,omitempty"`
	Watching string `json:"watching,omitempty"` // why the rulebook's folder cannot be watched
}

func (s *Service) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 5*time.Second)
	defer cancel()
	status, is := http.StatusOK, readiness{true, "ok", s.rules.Rulebook().Digest(), "", ""}
	if _, err := s.memory.Clock(ctx); err != nil {
		status, is.Ready, is.State = http.StatusServiceUnavailable, false, err.Error()
	}
	if stale := s.stale.Load(); stale != nil {
		is.Stale = "since " + stale.since.UTC().Format(time.RFC3339) + " the rulebook's folder cannot be loaded: " + stale.why
	}
	if why := s.unwatched.Load(); why != nil {
		is.Watching = "the rulebook's folder cannot be watched: " + *why
	}
	body, _ := json.Marshal(is)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_, _ = w.Write(append(body, '\n'))
}
