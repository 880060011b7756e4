package store

import (
	"context"

	"gorm.io/gorm"
)

// Figure is a bar: what it counts, and of how many it was so.
type Figure struct {
	Name  string // the value that cases are found by
	Label string // in words, where the name is a key of its own
	All   int64
	Good  int64
}

// Figures are a bench's figures.
type Figures struct {
	Stages  []Figure // where clones stop: all, and of them those that were seen to start since
	Models  []Figure // machines' models: all, and those that were seen to start
	Drives  []Figure // models of new drives: the same
	Actions []Figure // steps of repairs that were done: all, and those of cases that were seen to start
	Times   []Figure // how long until the first start, from when the case was made
}

// mostBars bounds a figure's bars.
const mostBars = 20

// spans are how long it took until a first start, in hours: less than each.
var spans = []struct {
	name  string
	hours int
}{{"within an hour", 1}, {"within four hours", 4}, {"within a day", 24}, {"within a week", 168}, {"later", 1 << 20}}

// firstStarts are how many whole hours passed from a case's making to its first start.
const firstStarts = `SELECT c.id, GREATEST(TIMESTAMPDIFF(HOUR, c.created_at, MIN(t.at)), 0) AS hours FROM starts t JOIN cases c ON c.id = t.case_id
	WHERE t.origin = 'clone' AND t.withdrawn_at IS NULL GROUP BY c.id, c.created_at`

// spanOf are the bounds of a span by its name: from so many hours, to less than so many.
func spanOf(name string) (from, to int, known bool) {
	for _, s := range spans {
		if s.name == name {
			return from, s.hours, true
		}
		from = s.hours
	}
	return 0, 0, false
}

// Figures counts. Cases of the demo world count as all others do.
func (s *Store) Figures(ctx context.Context) (f Figures, err error) {
	err = s.read(ctx, func(db *gorm.DB) error {
		const tail = " GROUP BY name ORDER BY `all` DESC, name LIMIT ?"
		for _, q := range []struct {
			to  *[]Figure
			sql string
		}{
			// Where a clone ever stopped: a later check says how it was put right.
			{&f.Stages, `SELECT k.stage AS name, COUNT(*) AS ` + "`all`" + `, SUM(c.proved_at IS NOT NULL) AS good
				FROM (SELECT DISTINCT case_id,
					stage FROM checks WHERE reaches = 'stops' AND stage <> '') k JOIN cases c ON c.id = k.case_id`},
			{&f.Models, "SELECT model AS name, COUNT(*) AS `all`, SUM(proved_at IS NOT NULL) AS good FROM cases WHERE model <> ''"},
			{&f.Drives, "SELECT d.model AS name, COUNT(*) AS `all`, SUM(c.proved_at IS NOT NULL) AS good FROM drives d JOIN cases c ON c.id = d.case_id WHERE d.role = 'clone' AND d.model <> ''"},
			{&f.Actions, `SELECT name, MAX(label) AS label, COUNT(*) AS ` + "`all`" + `, SUM(proved) AS good FROM (SELECT SUBSTRING_INDEX(m.step, ' ', 1) AS name, MAX(m.title) AS label, m.case_id, MAX(c.proved_at IS NOT NULL) AS proved
				FROM marks m JOIN cases c ON c.id = m.case_id WHERE m.state = 'done' GROUP BY name, m.case_id) done`},
		} {
			if err := db.Raw(q.sql+tail, mostBars).Scan(q.to).Error; err != nil {
				return err
			}
		}
		var hours []int
		if err := db.Raw("SELECT hours FROM (" + firstStarts + ") first").Scan(&hours).Error; err != nil {
			return err
		}
		for _, span := range spans {
			f.Times = append(f.Times, Figure{Name: span.name})
		}
		for _, h := range hours {
			for i, span := range spans {
				if h < span.hours {
					f.Times[i].All++
					f.Times[i].Good++
					break
				}
			}
		}
		return nil
	})
	return f, err
}
