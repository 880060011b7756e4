package handover_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/handover"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

func lookOf(s handover.Situation, key string) (handover.Look, bool) {
	for _, l := range s.Looks() {
		if l.Key == key {
			return l, true
		}
	}
	return handover.Look{}, false
}

// Each system is asked in its own way; what a running one answers decides, and nothing else.
func TestEverySystemIsLookedAtInItsOwnWay(t *testing.T) {
	mac := diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT, GUID: disk.TypeESP}
	mac.Partitions = []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
		{Type: disk.MustGUID("7C3457EF-0000-11AA-AA11-00306543ECAC"), MiB: 100,
			Volume: diskmaker.Volume{Kind: "raw", Raw: diskmaker.Container(25600, diskmaker.AppleVolume{Name: "System"})}}}
	data := diskmaker.Disk{Sectors: 1 << 20, Style: diskmaker.GPT, GUID: disk.TypeESP}
	data.Partitions = []diskmaker.Partition{{Type: disk.TypeBasicData, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}}}
	yes, no := true, false
	for name, c := range map[string]struct {
		disk diskmaker.Disk
		told func(is *bool) handover.Told
		key  string // of what the running system tells; "" where there is none
	}{
		"Linux's mounts": {sample.LinuxDisk(1, 1), func(is *bool) handover.Told { return handover.Told{Mounts: is} }, "mounts"},
		"Linux's services": {sample.LinuxDisk(1, 1), func(is *bool) handover.Told { return handover.Told{Services: is} },
			"services"},
		"a Mac's encryption": {mac, func(is *bool) handover.Told { return handover.Told{Encryption: is} }, "filevault"},
		"a disk of data":     {data, func(is *bool) handover.Told { return handover.Told{Mounts: is} }, ""},
	} {
		t.Run(name, func(t *testing.T) {
			m := machine.Machine{Drives: []machine.Drive{{Name: "clone", Role: machine.RoleClone, Attached: fact.Tell(true),
				Contents: contents(t, c.disk)}}}
			for _, key := range []string{"partitions", "programs"} {
				_, asked := lookOf(handover.Situation{Machine: m}, key)
				assert.True(t, asked, key)
			}
			if c.key == "" {
				_, asked := lookOf(handover.Situation{Machine: m, Told: c.told(&no)}, "mounts")
				assert.False(t, asked, "there is no system to ask")
				return
			}
			for _, is := range []*bool{nil, &yes, &no} {
				l, asked := lookOf(handover.Situation{Machine: m, Told: c.told(is)}, c.key)
				assert.True(t, asked)
				want := handover.Open
				if is == &yes {
					want = handover.Right
				} else if is == &no {
					want = handover.Wrong
				}
				assert.Equal(t, want, l.State)
				assert.Equal(t, is == &no, l.Remedy != "", "a remedy where something is wrong")
				assert.NotEmpty(t, l.Ask)
			}
		})
	}
}

// Two disks in one machine are to have identifiers of their own.
func TestIdentifiersOfBothDisks(t *testing.T) {
	both := func(x, y byte) machine.Machine {
		first, second := contents(t, sample.LinuxDisk(x, x)), contents(t, sample.LinuxDisk(y, y))
		return machine.Machine{Drives: []machine.Drive{
			{Name: "original", Role: machine.RoleOriginal, Attached: fact.Tell(true), Contents: first},
			{Name: "clone", Role: machine.RoleClone, Attached: fact.Tell(true), Contents: second}}}
	}
	ids := func(ids ...string) (told handover.Told) {
		for _, id := range ids {
			told.Disks = append(told.Disks, machine.Described{ID: id})
		}
		return told
	}
	for name, c := range map[string]struct {
		machine machine.Machine
		told    handover.Told
		state   handover.State
		says    string
	}{
		"nothing is told":                  {both(1, 2), handover.Told{}, handover.Open, "identifiers of their own"},
		"nothing is told, they were twins": {both(1, 1), handover.Told{}, handover.Open, "when they were looked at"},
		"two of their own":                 {both(1, 1), ids("a", "b"), handover.Right, "identifiers of their own"},
		"the same, in other letters":       {both(1, 2), ids("ab", "AB"), handover.Wrong, "the same identifier"},
		"one of them alone":                {both(1, 2), ids("a"), handover.Open, "identifiers of their own"},
		"one without an identifier":        {both(1, 2), ids("a", ""), handover.Open, "identifiers of their own"},
	} {
		l, asked := lookOf(handover.Situation{Machine: c.machine, Told: c.told, Beside: true}, "identifiers")
		assert.True(t, asked, name)
		assert.Equal(t, c.state, l.State, name)
		assert.Contains(t, l.Text, c.says, name)
		_, asked = lookOf(handover.Situation{Machine: c.machine, Told: c.told}, "identifiers")
		assert.False(t, asked, "only one of them stays in the machine")
	}
	l, asked := lookOf(handover.Situation{Machine: windows(t), Beside: true}, "identifiers")
	assert.False(t, asked, "the original is not in evidence: %v", l)
}
