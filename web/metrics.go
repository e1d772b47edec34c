package web

import (
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"homing/core/change"
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
