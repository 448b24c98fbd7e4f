package server

import (
	"fmt"
	"maps"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/core/audit"
	"vigila.dev/vigila/internal/keeper"
	"vigila.dev/vigila/internal/record"
)

// refusals remembers who was refused what lately: a program that asks again and again is one entry a minute.
type refusals struct {
	mu   sync.Mutex
	last map[string]time.Time
}

// first tells whether something was not refused in the last minute.
func (r *refusals) first(key string) bool {
	now := time.Now()
	r.mu.Lock()
	defer r.mu.Unlock()
	if now.Sub(r.last[key]) < time.Minute {
		return false
	}
	maps.DeleteFunc(r.last, func(_ string, at time.Time) bool { return now.Sub(at) >= time.Minute })
	r.last[key] = now
	return true
}

func (r *refusals) note(c *gin.Context, k *keeper.Keeper, want Role) {
	call := c.Request.Method + " " + strings.TrimPrefix(c.FullPath(), "/api/v1") // of the table: there are so many, and no more
	if w := who(c); r.first(w.Name + " " + call) {
		k.Refused(c.Request.Context(), keeper.Actor{Name: w.Name, Through: through(c)}, keeper.Subject{Verb: "call", Of: "API", Name: call}, fmt.Sprintf("it wants %s, and they are %s", a(want), a(roleOf(w))))
	}
}

// ListAudit is GET /audit.
func (s *server) ListAudit(c *gin.Context, q ListAuditParams) {
	limit, offset, ok := page(c, q.Limit, q.Offset)
	if !ok {
		return
	}
	all, total, err := s.Keeper.Audit(c.Request.Context(), record.FindAudit{Who: q.Who, Search: q.Search, Since: q.Since, After: q.After, Lines: q.Apart, Limit: limit, Offset: offset})
	answer(s, c, func(all []record.Accounted) AuditList {
		out := AuditList{Items: []AuditEntry{}, Total: total}
		for _, a := range all {
			out.Items = append(out.Items, auditOf(a))
		}
		return out
	})(all, err)
}

func auditOf(a record.Accounted) AuditEntry {
	out := AuditEntry{Number: a.Number, At: a.At, By: a.By, Through: a.Through, Verb: a.Verb, OfWhat: a.Of, Name: a.Name, Wished: a.With, Was: a.Was, Is: a.Is, CameTo: AuditEntryCameTo(a.Outcome), Why: a.Why, Asked: a.Asked}
	out.Digest = a.Hash
	if e := a.Ended; e != nil {
		out.CameTo, out.Why, out.Was, out.Is, out.Ended = AuditEntryCameTo(e.Outcome), e.Why, e.Was, e.Is, e.At
	}
	return out
}

// VerifyAudit is GET /audit/verify.
func (s *server) VerifyAudit(c *gin.Context, q VerifyAuditParams) {
	if q.Number < 0 || (q.Number == 0) != (q.Digest == "") {
		problem(c, http.StatusBadRequest, "What was kept can't be read", "number and digest of a line go together, as it was printed: the number is 1 or more")
		return
	}
	answer(s, c, func(v record.Verified) AuditVerified {
		out := AuditVerified{FirstNumber: v.First, LastNumber: v.Last, Digest: v.Hash}
		if v.Broken != nil {
			out.BrokenAt, out.Problem = v.Broken.Number, v.Broken.Error()
		}
		return out
	})(s.Keeper.VerifyAudit(c.Request.Context(), audit.Line{Number: q.Number, Hash: q.Digest}))
}
