package api

import "latchkey/server/store"

// Phase is where the work on a case stands, and what comes next.
type Phase struct {
	Name string `json:"name" enum:"prepare,copied,checked,repairing,started,watched,released"`
	Next string `json:"next" doc:"What comes next; empty when nothing does"`
	Turn string `json:"turn,omitempty" doc:"Whose turn it is: who was at it last, or whoever uses the machine"`
}

// user is whose turn it is while a machine is watched.
const user = "its user"

// phaseOf says where a case stands: what was seen comes before what was computed.
func phaseOf(c *store.Case, s store.Standing) Phase {
	evidence := map[string]bool{}
	for _, d := range c.Drives {
		evidence[d.Role] = d.Evidence != nil || d.Told != nil
	}
	p := Phase{Turn: s.Who}
	switch {
	case c.Handover != nil && c.Handover.Released != nil:
		p.Name = "released"
	case c.ProvedAt != nil && s.Starts > 1:
		p.Name, p.Next = "watched", "watch some cold starts"
		p.Turn = user
	case c.ProvedAt != nil:
		p.Name, p.Next = "started", "start it again, cold"
		p.Turn = user
	case s.Steps > 0:
		p.Name, p.Next = "repairing", "go on with the repair"
	case evidence["clone"] || c.Stands == "fails" || c.Stands == "copied" && len(c.Listings) > 0:
		p.Name, p.Next = "checked", nextOf(c)
	case c.Stands == "copied" || c.Stands == "old":
		p.Name, p.Next = "copied", "look at the clone"
	default:
		p.Name, p.Next = "prepare", "copy the drive"
	}
	if c.ClosedAt != nil || p.Name == "released" {
		p.Next, p.Turn = "", ""
	}
	return p
}

// nextOf is what comes after a check.
func nextOf(c *store.Case) string {
	switch {
	case c.Verdict == "starts":
		return "start it once"
	case c.Verdict == "depends":
		return "settle what is open"
	case c.Reaches == "starts-original":
		return "put the clone first"
	}
	return "repair it"
}
