package server

import (
	"github.com/gin-gonic/gin"

	"vigila.dev/vigila/internal/record"
)

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
	if e := a.Ended; e != nil {
		out.CameTo, out.Why, out.Was, out.Is, out.Ended = AuditEntryCameTo(e.Outcome), e.Why, e.Was, e.Is, e.At
	}
	return out
}

// VerifyAudit is GET /audit/verify.
func (s *server) VerifyAudit(c *gin.Context) {
	answer(s, c, func(v record.Verified) AuditVerified {
		out := AuditVerified{FirstNumber: v.First, LastNumber: v.Last, Digest: v.Hash}
		if v.Broken != nil {
			out.BrokenAt, out.Problem = v.Broken.Number, v.Broken.Error()
		}
		return out
	})(s.Keeper.VerifyAudit(c.Request.Context()))
}
