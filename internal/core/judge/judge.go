// Package judge says what the answer to a check of a canary means: good, bad, or not known. A check is a query of a metrics source, a
// request, or a load of requests; what is good is an expression over the answer. Start with Rule.
package judge

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/common/types"
	"github.com/google/cel-go/ext"
	"github.com/prometheus/prometheus/promql/parser"
)

// Answer is what came back for one side, the new version or the old. One with a Problem tells nothing.
type Answer struct {
	Problem string // why it is not known: not answered, no data, nonsense
	Value   float64
	Samples []float64     // of a query: a value for each series
	Status  int           // of a request
	Body    any           // of a request, decoded where it is JSON
	Took    time.Duration // of a request
	Load    *Load         // of a load
}

// Load is what many requests have answered.
type Load struct {
	Sent, Failed  int            // Failed: no answer, or a status of 500 and above
	Codes         map[string]int // how often each status came; "none" when nothing was answered
	P50, P95, P99 time.Duration
}

// Word is what an answer means in a word.
type Word string

// The words.
const (
	Good    Word = "good"
	Bad     Word = "bad"
	Unknown Word = "not known" // never good
)

// Verdict is what an answer means, and why.
type Verdict struct {
	Word Word
	Why  string
}

// Rule is an expression of what is good, compiled.
type Rule struct {
	text    string
	program cel.Program
	old     bool
}

// costLimit bounds the work of one expression, in CEL's own units.
const costLimit = 1_000_000

// Compile reads an expression: CEL (https://github.com/google/cel-spec) over value, samples, status, body, seconds and load of the new
// version's answer, and over old, which has the same of the old one's.
func Compile(text string) (*Rule, error) {
	env, err := cel.NewEnv(cel.Variable("value", cel.DoubleType), cel.Variable("samples", cel.ListType(cel.DoubleType)), cel.Variable("status", cel.IntType),
		cel.Variable("body", cel.DynType), cel.Variable("seconds", cel.DoubleType), cel.Variable("load", cel.DynType), cel.Variable("old", cel.DynType),
		cel.CrossTypeNumericComparisons(true), cel.OptionalTypes(), ext.Strings(), ext.Lists(), ext.Math())
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(text)
	if issues.Err() != nil {
		return nil, fmt.Errorf("%s", strings.TrimPrefix(strings.Split(issues.Err().Error(), "\n")[0], "ERROR: <input>:"))
	}
	if !ast.OutputType().IsExactType(cel.BoolType) && !ast.OutputType().IsExactType(cel.DynType) {
		return nil, fmt.Errorf("it is a %s; write something that is true or false, such as value < 0.05", ast.OutputType())
	}
	p, err := env.Program(ast, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(100))
	if err != nil {
		return nil, err
	}
	return &Rule{text: text, program: p, old: uses(ast, "old")}, nil
}

// uses tells whether an expression reads a variable.
func uses(a *cel.Ast, name string) bool {
	for _, r := range a.NativeRep().ReferenceMap() {
		if r.Name == name {
			return true
		}
	}
	return false
}

// ComparesOld tells whether the rule needs the old version's answer as well.
func (r *Rule) ComparesOld() bool { return r.old }

// Judge says what an answer means. What is not known of either side it reads is never good, nor is an expression that can't be worked
// out on it.
func (r *Rule) Judge(now Answer, old *Answer) Verdict {
	if now.Problem != "" {
		return Verdict{Unknown, now.Problem}
	}
	in := now.variables()
	in["old"] = map[string]any{}
	if r.old {
		if old == nil || old.Problem != "" {
			why := "the old version was not asked"
			if old != nil {
				why = "of the old version: " + old.Problem
			}
			return Verdict{Unknown, why}
		}
		in["old"] = old.variables()
	}
	v, _, err := r.program.Eval(in)
	switch {
	case err != nil:
		return Verdict{Bad, "good can't be worked out on this answer: " + err.Error()}
	case v == types.True:
		return Verdict{Good, now.Said()}
	}
	why := now.Said()
	if r.old {
		why += ", the old version " + old.Said()
	}
	return Verdict{Bad, why + "; good is " + r.text}
}

// variables are what an expression reads.
func (a Answer) variables() map[string]any {
	samples := a.Samples
	if samples == nil {
		samples = []float64{}
	}
	out := map[string]any{"value": a.Value, "samples": samples, "status": a.Status, "body": a.Body, "seconds": a.Took.Seconds(), "load": map[string]any{}}
	if l := a.Load; l != nil {
		failed := 0.0
		if l.Sent > 0 {
			failed = float64(l.Failed) / float64(l.Sent)
		}
		out["load"] = map[string]any{"sent": l.Sent, "failed": l.Failed, "failed_share": failed, "codes": l.Codes,
			"p50": l.P50.Seconds(), "p95": l.P95.Seconds(), "p99": l.P99.Seconds()}
	}
	return out
}

// Said is the answer in a few words.
func (a Answer) Said() string {
	switch {
	case a.Problem != "":
		return a.Problem
	case a.Load != nil:
		return fmt.Sprintf("%d of %d failed, p99 %s", a.Load.Failed, a.Load.Sent, a.Load.P99.Round(time.Millisecond))
	case a.Status != 0:
		return fmt.Sprintf("answered %d in %s", a.Status, a.Took.Round(time.Millisecond))
	}
	return fmt.Sprintf("value %s", Number(a.Value))
}

// Number writes a value as people do: four digits that count.
func Number(v float64) string { return fmt.Sprintf("%.4g", v) }

// Plot is the number that a chart shows for an answer; ok is false when there is none.
func (a Answer) Plot() (v float64, ok bool) {
	switch {
	case a.Problem != "":
		return 0, false
	case a.Load != nil:
		if a.Load.Sent == 0 {
			return 0, false
		}
		return float64(a.Load.Failed) / float64(a.Load.Sent), true
	case a.Status != 0:
		return a.Took.Seconds(), true
	}
	return a.Value, true
}

// Of makes an answer of what a query gave. Nothing, more than one series for an expression that reads one value, and what is no number
// tell nothing: an error rate of 0/0 is not a good one.
func Of(samples []float64) Answer {
	if len(samples) == 0 {
		return Answer{Problem: "the query gives no data"}
	}
	for _, v := range samples {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return Answer{Problem: "the query gives " + fmt.Sprint(v) + ", which is no number to judge by"}
		}
	}
	return Answer{Value: samples[0], Samples: samples}
}

// The two sides that a query may ask about, as ${{ new.pods }} and ${{ old.pods }}.
const (
	New = "new"
	Old = "old"
)

// Query fills the names of Pods into a query, as a regular expression: a|b|c. other asks the same of the other side: every ${{ new.… }}
// is ${{ old.… }} then.
func Query(text string, pods map[string][]string, other bool) string {
	side := func(name string) string {
		if other && name == New {
			name = Old
		}
		all := pods[name]
		if len(all) == 0 {
			return "none" // no Pod's name, for a name of theirs has a dash: an empty expression would match every series without the label
		}
		return strings.Join(all, "|")
	}
	return placeholder(text, side)
}

// AsksNew tells whether a query asks for the Pods of the new version.
func AsksNew(text string) bool {
	return Query(text, map[string][]string{New: {"a"}}, false) != Query(text, map[string][]string{New: {"b"}}, false)
}

// placeholder replaces ${{ SIDE.pods }}.
func placeholder(text string, with func(side string) string) string {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(text, "${{")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		inner, after, closed := strings.Cut(rest, "}}")
		if !closed {
			b.WriteString("${{" + rest)
			return b.String()
		}
		switch name := strings.TrimSpace(inner); name {
		case "new.pods", "old.pods":
			b.WriteString(with(strings.TrimSuffix(name, ".pods")))
		default:
			b.WriteString("${{" + inner + "}}")
		}
		text = after
	}
}

// CheckQuery tells what is wrong with a query: PromQL (https://prometheus.io/docs/prometheus/latest/querying/basics/) once the names
// of Pods are filled in.
func CheckQuery(text string) error {
	filled := Query(text, nil, false)
	if _, rest, left := strings.Cut(filled, "${{"); left {
		name, _, _ := strings.Cut(rest, "}}")
		return fmt.Errorf("${{ %s }} is not known here; write ${{ new.pods }} or ${{ old.pods }}", strings.TrimSpace(name))
	}
	expr, err := parser.NewParser(parser.Options{}).ParseExpr(filled)
	if err != nil {
		return err
	}
	switch t := expr.Type(); t {
	case parser.ValueTypeVector, parser.ValueTypeScalar:
		return nil
	default:
		return fmt.Errorf("it gives a %s; write a query that gives one value for each series, such as rate(…[1m])", parser.DocumentedType(t))
	}
}

// bound is an expression that compares what a chart shows with a number.
var bound = regexp.MustCompile(`^\s*(?:value|seconds|load\.failed_share)\s*[<>]=?\s*([0-9.eE+-]+)\s*$`)

// Limit is the number that an expression compares what a chart shows with; ok is false when it is another expression.
func Limit(good string) (limit float64, ok bool) {
	m := bound.FindStringSubmatch(good)
	if m == nil {
		return 0, false
	}
	limit, err := strconv.ParseFloat(m[1], 64)
	return limit, err == nil
}
