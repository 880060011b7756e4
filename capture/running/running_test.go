package running_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"latchkey/capture/running"
	"latchkey/core/disk"
	"latchkey/core/handover"
	"latchkey/core/machine"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

func is(b bool) *bool { return &b }

// The commands' output, from memory of their makers' documentation.
func TestAnswersOfRunningSystems(t *testing.T) {
	for _, c := range []struct {
		text string
		want running.Answer
	}{
		{"Windows RE status:         Enabled\r\n",
			told(func(a *running.Answer) { a.Recovery = is(true) })},
		{"    Windows RE-Status:             Deaktiviert\n",
			told(func(a *running.Answer) { a.Recovery = is(false) })},
		{"Stav prostředí: ?\n  \\\\?\\GLOBALROOT\\device\\harddisk0\\partition4\\Recovery\\WindowsRE\n",
			told(func(a *running.Answer) { a.Recovery = is(true) })},
		{"Windows RE status:  Ena",
			running.Answer{}},
		{"Name          : Windows\nLicenseStatus : 1\n\nName : Office\nLicenseStatus : 0\n",
			told(func(a *running.Answer) { a.Licensed = is(true) })},
		{"LicenseStatus : 5\n",
			told(func(a *running.Answer) { a.Licensed = is(false) })},
		{"    HiberbootEnabled    REG_DWORD    0x1\n",
			told(func(a *running.Answer) { a.FastStart = is(true) })},
		{"    Protection Status:    Protection Off\n",
			told(func(a *running.Answer) { a.Protected = is(false) })},
		{"ProtectionStatus : On\nProtectionStatus : Off\n",
			told(func(a *running.Answer) { a.Protected = is(false) })},
		{"Protection Status:    Unknown\n",
			running.Answer{}},
		{"Success, no errors or warnings detected\n",
			told(func(a *running.Answer) { a.Mounts = is(true) })},
		{"0 parse errors, 1 error, 2 warnings\n",
			told(func(a *running.Answer) { a.Mounts = is(false) })},
		{"0 parse errors, 0 errors, 1 warning\n",
			told(func(a *running.Answer) { a.Mounts = is(true) })},
		{"degraded\n",
			told(func(a *running.Answer) { a.Services = is(false) })},
		{"FileVault is Off.\n",
			told(func(a *running.Answer) { a.Encryption = is(false) })},
		{"hello, world\n",
			running.Answer{}},
	} {
		text, want := c.text, c.want
		got := running.Read(text)
		got.Means = nil
		assert.Equal(t, want, got, text)
	}
}

func told(change func(*running.Answer)) running.Answer {
	var a running.Answer
	change(&a)
	return a
}

func TestHowLongStartsTook(t *testing.T) {
	const event = `<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System><EventID>100</EventID></System><EventData>` +
		`<Data Name='BootStartTime'>2026-11-24T06:01:02.123456700Z</Data><Data Name='BootTime'>31244</Data><Data Name='MainPathBootTime'>10244</Data></EventData></Event>`
	b := running.Read(event + "\n" + event).Boots
	require.Len(t, b, 2)
	assert.Equal(t, 10244*time.Millisecond, b[0].Took)
	assert.Equal(t, 24, b[0].At.Day())
	for text, want := range map[string]time.Duration{
		"Startup finished in 5.208s (firmware) + 2.103s (loader) + 1.512s (kernel) + 6.402s (userspace) = 15.226s": 15226 * time.Millisecond,
		"Startup finished in 1.5s (kernel) + 1min 2.25s (userspace) = 1min 3.75s \ngraphical.target reached":       63750 * time.Millisecond,
	} {
		b := running.Read(text).Boots
		require.Len(t, b, 1, text)
		assert.Equal(t, want, b[0].Took)
	}
	assert.Empty(t, running.Read("Startup finished in = s").Boots)
	for text, want := range map[string]time.Duration{"31": 31 * time.Second, "31 s": 31 * time.Second, "1:05": 65 * time.Second,
		"10,5 sec": 10500 * time.Millisecond, "1 min 5 s": 65 * time.Second, "2 minutes": 2 * time.Minute} {
		got, ok := running.Timer(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "soon", "-3", "0", "1:75", "99999999"} {
		_, ok := running.Timer(text)
		assert.False(t, ok, text)
	}
}

// lsblk itself prints the form that is read.
func TestFromWhichDiskTheSystemRuns(t *testing.T) {
	reference.Need(t, "lsblk")
	for text, id := range map[string]string{
		"nvme0n1 Ostra N3    1000204886016 f5a30b3c-9d5e-4b4a-9a52-111111111111\n": "f5a30b3c-9d5e-4b4a-9a52-111111111111",
		"sda     Halden  500107862016 0000cafe\n":                                  "0000cafe",
		"\nNumber    : 0\nFriendlyName : Ostra N3\nSize      : 1000204886016\nPartitionStyle : GPT\nGuid      : {f5a30b3c-9d5e-4b4a-9a52-111111111111}\n": "f5a30b3c-9d5e-4b4a-9a52-111111111111",
	} {
		d, ok := running.From(text)
		assert.True(t, ok, text)
		assert.Equal(t, id, strings.ToLower(strings.Trim(d.ID, "{}")), text)
		assert.Greater(t, d.Size, int64(1)<<30)
	}
	_, ok := running.From("sda A 500107862016 0000cafe\nsdb B 500107862016 0000beef\n")
	assert.False(t, ok, "two disks tell nothing")
	_, ok = running.From("no disk")
	assert.False(t, ok)
}

// Less of an answer never says another definite thing: cut at any line, at any column, or
// without a line, it says the same or nothing.
func TestLessOfAnAnswerSaysNothingElse(t *testing.T) {
	d := diskmaker.Disk{Sectors: 1 << 21, Style: diskmaker.GPT, GUID: disk.TypeESP, Partitions: []diskmaker.Partition{
		{Type: disk.TypeESP, MiB: 64, Volume: diskmaker.Volume{Kind: "fat32"}},
		{Type: disk.TypeBasicData, MiB: 500,
			Volume: diskmaker.Volume{Kind: "ntfs", Files: map[string][]byte{`\Windows\System32\winload.efi`: diskmaker.Program{}.Bytes()}}},
		{Type: disk.TypeWinRE, MiB: 100, Volume: diskmaker.Volume{Kind: "ntfs", Label: "Recovery"}}}}
	image := d.MustBuild()
	on, err := disk.New(image, image.Size, 512)
	require.NoError(t, err)
	m := machine.Machine{Drives: []machine.Drive{{Name: "clone", Role: machine.RoleClone, Contents: machine.Examine(on)}}}
	states := func(text string) map[string]handover.State {
		s := handover.Situation{Machine: m, Told: running.Read(text).Told}
		out := map[string]handover.State{}
		for _, l := range s.Looks() {
			out[l.Key] = l.State
		}
		return out
	}
	var answers []string
	for _, letters := range [][3]string{{"", "C", ""}, {"", "C", "E"}, {"S", "D", ""}} {
		text := ""
		for i, at := range []int64{1, 65, 565} {
			text += fmt.Sprintf("DiskNumber      : 0\nPartitionNumber : %d\nDriveLetter     : %s\nOffset          : %d\nSize            : %d\n\n", i+1, letters[i], at<<20, int64(60)<<20)
		}
		for _, rest := range []string{"Windows RE status:         Disabled\n", "Windows RE status:         Enabled\n    HiberbootEnabled    REG_DWORD    0x0\nName : Windows\nLicenseStatus : 1\n", "    Protection Status:    Protection Off\n"} {
			answers = append(answers, text+rest, rest+"\n"+text)
		}
	}
	rapid.Check(t, func(t *rapid.T) {
		whole := rapid.SampledFrom(answers).Draw(t, "answer")
		lines := strings.SplitAfter(whole, "\n")
		var weak string
		switch rapid.IntRange(0, 3).Draw(t, "how") {
		case 0:
			weak = whole[:rapid.IntRange(0, len(whole)).Draw(t, "end")]
		case 1:
			weak = strings.Join(lines[rapid.IntRange(0, len(lines)-1).Draw(t, "from"):], "")
		case 2:
			i := rapid.IntRange(0, len(lines)-1).Draw(t, "without")
			weak = strings.Join(lines[:i], "") + strings.Join(lines[i+1:], "")
		default:
			column := rapid.IntRange(5, 60).Draw(t, "column")
			for _, l := range lines {
				weak += strings.TrimRight(l[:min(len(l), column)], "\n") + "\n"
			}
		}
		full := states(whole)
		for key, state := range states(weak) {
			if state != handover.Open && state != full[key] {
				t.Fatalf("%s: %s of the whole, %s of\n%s", key, full[key], state, weak)
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add("Windows RE status: Enabled\nStartup finished in 1s (kernel) = 1s\n<Event><EventID>100</EventID></Event>")
	f.Fuzz(func(t *testing.T, text string) {
		running.Read(text)
		running.From(text)
		running.Timer(text)
	})
}
