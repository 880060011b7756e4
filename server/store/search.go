package store

import (
	"context"
	"strings"
	"time"
	"unicode"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Cursor is where a page of a list begins: after this case.
type Cursor struct {
	UpdatedAt time.Time
	ID        uint64
}

// Page asks for a part of the list of cases.
type Page struct {
	Search  string // words; each must begin a word by which the case is found
	Reaches string // a verdict up to the loader, or "" for all
	Stage   string // where it ever stopped, or ""
	Model   string // of the machine, or ""
	Drive   string // model of a drive, or ""
	Action  string // of a repair's step that was done, or ""
	Time    string // how long until the first start, by the name of a span, or ""
	After   *Cursor
	Limit   int
}

// Bounds of a search.
const (
	maxTerms = 8
	// many is how many rows of a word make it a common one: it is then looked for case by
	// case, the latest changed first, and not case after case by the word.
	many = 1500
	// maxWords bounds the words by which a case is found.
	maxWords = 3000
)

// List returns cases, the latest changed first, with their drives.
func (s *Store) List(ctx context.Context, p Page) ([]Case, error) {
	var cases []Case
	err := s.read(ctx, func(db *gorm.DB) error {
		q := db.Session(&gorm.Session{}).Preload("Drives", func(tx *gorm.DB) *gorm.DB { return tx.Order("role DESC") }).Preload("Drives.Evidence")
		for column, value := range map[string]string{"reaches": p.Reaches, "model": p.Model} {
			if value != "" {
				q = q.Where(column+" = ?", value)
			}
		}
		if p.Stage != "" {
			q = q.Where("id IN (SELECT case_id FROM checks WHERE stage = ? AND reaches = 'stops')", p.Stage)
		}
		if from, to, known := spanOf(p.Time); known {
			q = q.Where("id IN (SELECT id FROM ("+firstStarts+") first WHERE hours >= ? AND hours < ?)", from, to)
		}
		if p.Drive != "" {
			q = q.Where("id IN (SELECT case_id FROM drives WHERE model = ?)", p.Drive)
		}
		if p.Action != "" {
			q = q.Where("id IN (SELECT case_id FROM marks WHERE state = ? AND (step = ? OR step LIKE ?))", MarkDone, p.Action, likeEscaper.Replace(p.Action)+" %")
		}
		words := wordsOf(p.Search)
		for _, w := range words[:min(len(words), maxTerms)] {
			like := likeEscaper.Replace(w) + "%"
			var rows int64
			if err := db.Raw("SELECT COUNT(*) FROM (SELECT 1 FROM case_words WHERE word LIKE ? LIMIT ?) AS some", like, many).Scan(&rows).Error; err != nil {
				return err
			}
			if rows < many {
				q = q.Where("id IN (SELECT case_id FROM case_words WHERE word LIKE ?)", like)
			} else {
				q = q.Where("(SELECT 1 FROM case_words w WHERE w.case_id = cases.id AND w.word LIKE ? LIMIT 1) = 1", like)
			}
		}
		if p.After != nil {
			q = q.Where("(updated_at < ? OR (updated_at = ? AND id < ?))", p.After.UpdatedAt, p.After.UpdatedAt, p.After.ID)
		}
		return q.Order("updated_at DESC, id DESC").Limit(p.Limit).Find(&cases).Error
	})
	return cases, err
}

var likeEscaper = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)

func wordsOf(texts ...string) []string {
	var words []string
	seen := map[string]bool{}
	for _, t := range texts {
		for _, w := range strings.FieldsFunc(strings.ToLower(t), func(r rune) bool {
			return !unicode.IsLetter(r) && !unicode.IsDigit(r)
		}) {
			if w = clip(w, 60); !seen[w] {
				seen[w] = true
				words = append(words, w)
			}
		}
	}
	return words[:min(len(words), maxWords)]
}

// indexWords keeps the words of what was entered of a case; what its evidence tells comes
// with the next check.
func indexWords(tx *gorm.DB, c *Case) error {
	texts := []string{c.Title, c.Machine, c.Said}
	for _, d := range c.Drives {
		texts = append(texts, d.Model)
	}
	return keepWords(tx, c.ID, texts)
}

// findBy lets a case be found by texts, and by no others.
func findBy(tx *gorm.DB, id uint64, texts []string) error {
	var kept []string
	if err := tx.Model(&caseWord{}).Where("case_id = ?", id).Pluck("word", &kept).Error; err != nil {
		return err
	}
	wanted, has := wordsOf(texts...), map[string]bool{}
	for _, w := range kept {
		has[w] = true
	}
	var fresh []string
	for _, w := range wanted {
		if !has[w] {
			fresh = append(fresh, w)
		}
		delete(has, w)
	}
	var gone []string
	for w := range has {
		gone = append(gone, w)
	}
	if len(gone) > 0 {
		if err := tx.Where("case_id = ? AND word IN ?", id, gone).Delete(&caseWord{}).Error; err != nil {
			return err
		}
	}
	return keepWords(tx, id, fresh)
}

func keepWords(tx *gorm.DB, id uint64, texts []string) error {
	var rows []caseWord
	for _, w := range wordsOf(texts...) {
		rows = append(rows, caseWord{w, id})
	}
	if len(rows) == 0 {
		return nil
	}
	// Words that differ in accents alone are one to the database.
	return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, 500).Error
}

type caseWord struct {
	Word   string `gorm:"primaryKey"`
	CaseID uint64 `gorm:"primaryKey"`
}
