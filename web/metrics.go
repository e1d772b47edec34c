package web

import (
	"crypto/subtle"
	"net/http"
	"net/netip"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"homing/core/change"
	"homing/web/problem"
	"homing/wire"
)

// metrics are what /metrics shows, in the exposition format of Prometheus.
type metrics struct {
	registry  *prometheus.Registry
	requests  *prometheus.HistogramVec
	answers   *prometheus.CounterVec
	delivered prometheus.Counter
	listeners prometheus.Gauge
}

func newMetrics() *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "homing_request_seconds",
			Help:    "Duration of HTTP requests.",
			Buckets: prometheus.ExponentialBuckets(0.001, 4, 8)}, []string{"method", "route", "status"}),
		answers: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "homing_answers_total",
			Help: "Answers to changes by verdict, repeated ones included."}, []string{"answer"}),
		delivered: prometheus.NewCounter(prometheus.CounterOpts{Name: "homing_delivered_records_total",
			Help: "Records delivered to devices that pulled."}),
		listeners: prometheus.NewGauge(prometheus.GaugeOpts{Name: "homing_listeners",
			Help: "Connections that listen to live events."}),
	}
	m.registry.MustRegister(m.requests, m.answers, m.delivered, m.listeners, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	for _, verdict := range []change.Verdict{change.Applied, change.Merged, change.Held, change.Refused, change.Waiting} {
		m.answers.WithLabelValues(string(verdict)) // shown from the start, at zero
	}
	return m
}

func (m *metrics) count(answers []wire.Answer) {
	for _, answer := range answers {
		m.answers.WithLabelValues(string(answer.Answer)).Inc()
	}
}

// methodLabel names the methods that there are. Others come from callers and must not become labels.
func methodLabel(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete,
		http.MethodOptions:
		return method
	}
	return "other"
}

// serveMetrics gives the metrics to the machine itself, or to who has the token for them.
func (s *Server) serveMetrics(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		address, err := netip.ParseAddr(callerOf(r.Context()).address)
		may := err == nil && address.IsLoopback()
		if want := s.options.MetricsToken; want != "" {
			may = subtle.ConstantTimeCompare([]byte(tokenOf(r)), []byte(want)) == 1
		}
		if !may {
			problem.Write(w, r, http.StatusForbidden, "metrics are for this machine alone, or for who has their token; see --metrics-token")
			return
		}
		next.ServeHTTP(w, r)
	})
}
