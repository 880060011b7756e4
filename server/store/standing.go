package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Standing is how far the work on a case is, for lists.
type Standing struct {
	Starts int    // seen from the clone
	Steps  int    // of a repair that were done
	Who    string // who did something with it last
	At     time.Time
}

// Standings returns those of some cases.
func (s *Store) Standings(ctx context.Context, cases []Case) (map[uint64]Standing, error) {
	out := map[uint64]Standing{}
	if len(cases) == 0 {
		return out, nil
	}
	var ids []uint64
	for i := range cases {
		ids = append(ids, cases[i].ID)
	}
	type row struct {
		CaseID uint64
		N      int
		Who    string
		At     time.Time
	}
	err := s.read(ctx, func(db *gorm.DB) error {
		for _, q := range []struct {
			sql  string
			take func(s *Standing, r row)
		}{
			{"SELECT case_id, COUNT(*) AS n FROM starts WHERE withdrawn_at IS NULL AND origin = 'clone' AND case_id IN ? GROUP BY case_id", func(s *Standing, r row) { s.Starts = r.N }},
			{"SELECT case_id, COUNT(*) AS n FROM marks WHERE state = 'done' AND case_id IN ? GROUP BY case_id", func(s *Standing, r row) { s.Steps = r.N }},
			{"SELECT h.case_id, h.who, h.at FROM history h JOIN (SELECT MAX(id) AS id FROM history WHERE case_id IN ? GROUP BY case_id) last ON last.id = h.id",
				func(s *Standing, r row) { s.Who, s.At = r.Who, r.At }},
		} {
			var rows []row
			if err := db.Raw(q.sql, ids).Scan(&rows).Error; err != nil {
				return err
			}
			for _, r := range rows {
				standing := out[r.CaseID]
				q.take(&standing, r)
				out[r.CaseID] = standing
			}
		}
		return nil
	})
	return out, err
}
