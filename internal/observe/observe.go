// Package observe is what those use who live in their own dashboards: alerting rules for Prometheus, and a dashboard in Grafana's format, both over what the
// service tells at /metrics. Start with Rules and Dashboard.
package observe

import (
	_ "embed" // the rules
	"encoding/json"
)

// Rules are alerting rules, as Prometheus reads them from a file. Source: https://prometheus.io/docs/prometheus/latest/configuration/alerting_rules/
//
//go:embed rules.yaml
var Rules []byte

// Panel is one picture of the dashboard: what it is called, and what it asks for.
type Panel struct {
	Title, About string
	Form         string // stat, timeseries or table
	Width        int    // of 24 columns
	Unit         string // as Grafana names it; "" for a number
	Queries      []Query
}

// Query is one expression of PromQL, and how its series are called.
type Query struct{ Expr, Legend string }

// Panels are the pictures of the dashboard, in their order.
var Panels = []Panel{
	{"Wards", "All that are watched.", "stat", 4, "", []Query{{"sum(vigila_wards)", ""}}},
	{"In step and ready", "The cluster is as the repository says, and what is in it is ready.", "stat", 4, "", []Query{{`sum(vigila_wards{standing="in step",health="ready"}) or vector(0)`, ""}}},
	{"Need somebody", "Wards, proposals and whatever else waits for a person.", "stat", 4, "", []Query{{"sum(vigila_troubles) or vector(0)", ""}}},
	{"Can't be read", "Repositories, clusters and stores.", "stat", 4, "", []Query{{"count(vigila_readable == 0) or vector(0)", ""}}},
	{"Runs that failed in a day", "", "stat", 4, "", []Query{{`sum(increase(vigila_runs_total{outcome="failed"}[1d])) or vector(0)`, ""}}},
	{"Messages not delivered yet", "", "stat", 4, "", []Query{{"sum(vigila_deliveries_waiting)", ""}}},
	{"What needs somebody", "By the topics of alerts.", "timeseries", 12, "", []Query{{"sum by (topic) (vigila_troubles)", "{{topic}}"}}},
	{"Wards by standing", "", "timeseries", 12, "", []Query{{"sum by (standing) (vigila_wards)", "{{standing}}"}}},
	{"Who has what needs somebody", "", "table", 12, "", []Query{{"sum by (owner, cluster, topic) (vigila_troubles)", ""}}},
	{"What can't be read", "", "table", 12, "", []Query{{"vigila_readable == 0", ""}}},
	{"Runs an hour", "By what they were and how they ended.", "timeseries", 12, "", []Query{{"sum by (kind, outcome) (increase(vigila_runs_total[1h]))", "{{kind}}, {{outcome}}"}}},
	{"Time to fetch a repository", "Nine of ten are faster.", "timeseries", 12, "s", []Query{{"histogram_quantile(0.9, sum by (repo, le) (rate(vigila_fetch_seconds_bucket[$__rate_interval])))", "{{repo}}"}}},
	{"Time that work waits for its turn", "Nine of ten wait shorter.", "timeseries", 12, "s", []Query{{"histogram_quantile(0.9, sum by (queue, le) (rate(vigila_turn_wait_seconds_bucket[$__rate_interval])))", "{{queue}}"}}},
	{"Work that waits", "Pieces that wait for their turn, and events that no ward has looked at yet.", "timeseries", 12, "", []Query{{"sum by (queue) (vigila_turn_queue_depth)", "{{queue}}"}, {"sum(vigila_ward_queue_depth)", "events of wards"}}},
	{"Time to answer a request", "Nineteen of twenty are faster.", "timeseries", 12, "s", []Query{{"histogram_quantile(0.95, sum by (le) (rate(vigila_request_seconds_bucket[$__rate_interval])))", "all routes"}}},
	{"Tries to deliver a message", "", "timeseries", 12, "", []Query{{"sum by (way, result) (increase(vigila_delivery_tries_total[1h]))", "{{way}}, {{result}}"}}},
	{"Days until credentials end", "", "table", 12, "d", []Query{{"(vigila_credentials_end_timestamp_seconds - time()) / 86400", ""}}},
	{"Memory and renderings", "", "timeseries", 12, "", []Query{{"process_resident_memory_bytes and on (instance, job) vigila_build_info", "resident bytes, {{instance}}"}, {"sum(increase(vigila_renders_total[1h]))", "renderings an hour"}}},
}

// Dashboard is a dashboard in Grafana's JSON, to be imported there; it asks which Prometheus to read. Source:
// https://grafana.com/docs/grafana/latest/dashboards/build-dashboards/view-dashboard-json-model/
func Dashboard() []byte {
	type object = map[string]any
	source := object{"type": "prometheus", "uid": "${source}"}
	var panels []object
	x, y, tall := 0, 0, 0
	for i, p := range Panels {
		height := 8
		if p.Form == "stat" {
			height = 4
		}
		if x+p.Width > 24 {
			x, y, tall = 0, y+tall, 0
		}
		var targets []object
		for n, q := range p.Queries {
			t := object{"refId": string(rune('A' + n)), "datasource": source, "expr": q.Expr, "legendFormat": q.Legend}
			if p.Form != "timeseries" {
				t["instant"] = true
			}
			if p.Form == "table" {
				t["format"] = "table"
			}
			targets = append(targets, t)
		}
		panels = append(panels, object{"id": i + 1, "title": p.Title, "description": p.About, "type": p.Form, "datasource": source, "targets": targets,
			"gridPos": object{"x": x, "y": y, "w": p.Width, "h": height}, "fieldConfig": object{"defaults": object{"unit": p.Unit, "min": 0}, "overrides": []object{}}})
		x, tall = x+p.Width, max(tall, height)
	}
	out, err := json.MarshalIndent(object{"title": "Vigila", "uid": "vigila", "tags": []string{"vigila"}, "schemaVersion": 39, "editable": true, "refresh": "30s", "time": object{"from": "now-6h", "to": "now"},
		"templating": object{"list": []object{{"name": "source", "label": "Prometheus", "type": "datasource", "query": "prometheus"}}}, "panels": panels}, "", "  ")
	if err != nil {
		panic(err) // it is made of texts and numbers
	}
	return append(out, '\n')
}
