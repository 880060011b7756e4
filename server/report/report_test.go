package report_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/text"
	"pgregory.net/rapid"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/handover"
	"latchkey/core/startup"
	"latchkey/internal/reference"
	"latchkey/server/judge"
	"latchkey/server/report"
	"latchkey/server/store"
)

// sample is a report whose texts are all the given one.
func sample(s string) *report.Report {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	size := judge.Size{Bytes: 1 << 40, Label: "1.1 TB", Binary: "1 TiB"}
	drive := func(role string) judge.Drive {
		d := judge.Drive{Role: "clone", Model: s, Disk: &judge.Disk{Size: &size, SectorSize: 512, Sectors: 1 << 31,
			Style: disk.StyleGPT, ID: s,
			Partitions: []judge.Partition{{Number: 1, Type: s, Role: disk.RoleBoot, Start: 2048, Length: 1 << 20,
				Placed: true, Label: s, Kind: "FAT32", Size: size},
				{Number: 2, Type: s, Role: disk.RoleSystem, Start: 1 << 21, Length: 1 << 30, Placed: true, Kind: "NTFS",
					Size: size}}}}
		for _, stage := range course.Stages {
			d.Pins = append(d.Pins, startup.Pin{Stage: stage, State: course.Passes, Text: s})
		}
		if role == "original" {
			d.Role, d.Disk = "original", nil
		}
		return d
	}
	check := &judge.Check{Rules: "1", Drives: []judge.Drive{drive("original"), drive("clone")}}
	check.Trace.Headline, check.Trace.Reason = s, s
	return report.New(report.Parts{
		Case: &store.Case{ID: 7, Title: s, Machine: s, ProvedAt: &now}, Check: check, By: s, Now: now,
		HandOver: &judge.HandOver{Phase: handover.Watched, Still: s, Starts: []judge.StartSeen{{From: "clone", Why: s,
			Who: s, At: now}},
			Looks: []judge.LookAt{{Text: s, State: handover.Wrong, Remedy: s}},
			Sides: []judge.Side{{Side: "original", Seconds: 31, How: "stopwatch"}, {Side: "clone", Seconds: 10, How: "stopwatch"}}},
		Marks: []store.Mark{{Step: "a", Title: s, State: store.MarkDone, Note: s,
			At: now}}, History: []store.Entry{{Who: s, What: "x", Detail: s}},
		Evidence: []store.Evidence{{Role: "clone", Filename: s}},
	})
}

// Whatever stands on a disk is plain text in Markdown: an independent reader of CommonMark
// and of GitHub's tables finds no link, no picture, no markup and no table of it.
func TestEvidenceIsPlainTextInMarkdown(t *testing.T) {
	md := goldmark.New(goldmark.WithExtensions(extension.GFM))
	shape := func(s string) (kinds map[string]int, words string) {
		raw := sample(s).Markdown()
		kinds = map[string]int{}
		var b strings.Builder
		err := ast.Walk(md.Parser().Parse(text.NewReader(raw)),
			func(n ast.Node, entering bool) (ast.WalkStatus, error) {
				if entering && n.Kind() != ast.KindText && n.Kind() != ast.KindString {
					kinds[n.Kind().String()]++
				}
				return ast.WalkContinue, nil
			})
		require.NoError(t, err)
		require.NoError(t, md.Convert(raw, &b))
		return kinds, b.String()
	}
	plain, _ := shape("value")
	acting := []string{"[x](http://a.b)", "![x](y)", "<script>x</script>", "*a*", "_b_", "`c`", "# d", "- e", "1. f", "1) g", "| h |", "~~i~~", "www.evil.com", "https://evil.com/x",
		"me@evil.com", "> j", "---", "===", "&amp;", "\\", "- [ ] k", "\n\n# l", "$m$", "+ n", "    code", "[^1]: o", ":k:"}
	for _, s := range acting {
		kinds, _ := shape(s)
		assert.Equal(t, plain, kinds, "%q", s)
	}
	rapid.Check(t, func(t *rapid.T) {
		s := strings.Join(rapid.SliceOfN(rapid.OneOf(rapid.SampledFrom(acting), rapid.StringN(0, 12, -1)), 1,
			4).Draw(t, "s"), " ")
		if strings.TrimSpace(s) == "" || !regexp.MustCompile(`[a-z]`).MatchString(s) {
			return
		}
		kinds, _ := shape("x " + s)
		if len(kinds) != len(plain) {
			t.Fatalf("%q makes %v of %v", s, kinds, plain)
		}
	})
}

// Outside readers of PDF find the document sound and the words in it.
func TestThePDFIsSoundAndSaysWhatItShould(t *testing.T) {
	reference.Need(t, "pdftotext", "pdffonts", "qpdf")
	path := filepath.Join(t.TempDir(), "report.pdf")
	raw, err := sample("Kiosk (North) \\ größer → 中").PDF()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	out, err := exec.Command("qpdf", "--check", path).CombinedOutput()
	require.NoError(t, err, string(out))
	words := reference.Run(t, "", "pdftotext", "-layout", path, "-")
	for _, want := range []string{"The machine starts from its new drive.", "Kiosk (North) \\ größer →", "What was done", "What to keep in mind", "31 s", "Technical record", "Boot partition", "1 of"} {
		assert.Contains(t, words, want)
	}
	first := reference.Run(t, "", "pdftotext", "-l", "1", path, "-")
	assert.NotContains(t, first, "Technical record", "the customer's page stands alone")
	for _, line := range strings.Split(strings.TrimSpace(reference.Run(t, "", "pdffonts", path)), "\n")[2:] {
		assert.Regexp(t, `yes (yes|no) +yes`, line, "every font is in the document")
	}
}

// No text on a disk keeps the report from being made, however odd or long it is.
func TestAnyTextMakesAReport(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.Just(strings.Repeat("W", 3000)), rapid.Just("{pages}{nb}\x00\x1b[2J")).Draw(t, "s")
		raw, err := sample(s).PDF()
		if err != nil || !bytes.HasPrefix(raw, []byte("%PDF-")) {
			t.Fatalf("%q: %v", s, err)
		}
	})
}

func BenchmarkPDF(b *testing.B) {
	r := sample("Kiosk")
	for b.Loop() {
		if _, err := r.PDF(); err != nil {
			b.Fatal(err)
		}
	}
}
