package loader_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/loader"
	"latchkey/internal/reference"
)

// The UAPI Group's Version Format Specification, "Examples", from the lowest on.
func TestVersionsAreOrdered(t *testing.T) {
	inOrder(t, loader.CompareVersions, "122.1", "123~rc1-1", "123", "123-a", "123-a.1", "123-1", "123-1.1", "123^post1",
		"123.a-1", "123.1-1", "123a-1", "124-1")
	assert.Zero(t, loader.CompareVersions("0011.a", "11.a"))
	assert.Zero(t, loader.CompareVersions("1_2", "12"[:1]+"+2"), "foreign letters separate alike")
}

// rpm's rpm-version(7), "Sort Algorithm", and its own examples, from memory.
func TestPackagesAreOrdered(t *testing.T) {
	inOrder(t, loader.ComparePackages, "1.0~rc1", "1.0~rc2", "1.0", "1.0^20160101", "1.0.a", "1.0.1", "1.1", "2.0", "2.0.1", "10.0")
	for _, same := range [][2]string{{"1.0", "1_0"}, {"1.05", "1.5"}, {"1.0-1", "1.0.1"}, {"", "-"}} {
		assert.Zero(t, loader.ComparePackages(same[0], same[1]), same)
	}
}

func inOrder(t *testing.T, compare func(a, b string) int, versions ...string) {
	t.Helper()
	for i, x := range versions {
		for j, y := range versions {
			want := 0
			if i < j {
				want = -1
			} else if i > j {
				want = 1
			}
			assert.Equal(t, want, compare(x, y), "%s and %s", x, y)
		}
	}
}

// Versions at random, in the order of systemd's own tool.
func TestVersionsAreOrderedAsSystemdDoes(t *testing.T) {
	reference.Need(t, "systemd-analyze")
	r := rand.New(rand.NewPCG(1, 2))
	parts := []string{"6", "10", "010", "0", "9", "rc", "a", "b1", ".", ".", "-", "-", "~", "^", "_", "+"}
	for range 200 {
		var pair [2]string
		for i := range pair {
			for range 1 + r.IntN(5) {
				pair[i] += parts[r.IntN(len(parts))]
			}
			pair[i] = "1" + pair[i]
		}
		said := strings.Fields(reference.Run(t, "", "sh", "-c", `systemd-analyze compare-versions "$0" "$1" || true`, pair[0], pair[1]))
		want := map[string]int{"<": -1, "==": 0, ">": 1}[said[1]]
		assert.Equal(t, want, loader.CompareVersions(pair[0], pair[1]), "%s and %s", pair[0], pair[1])
	}
}
