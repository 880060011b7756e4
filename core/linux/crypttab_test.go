package linux_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// lockedUUID is what the encrypted volume is called that a disk holds beside its Linux.
const lockedUUID = "c0de0000-0000-0000-0000-000000000000"

// rootOf1 is what the file system of the root is called.
const rootOf1 = "01000000-0000-0000-0000-000000000000"

// crypted is a Linux with a mount, a table of encrypted volumes ("" for none) and perhaps an encrypted volume.
func crypted(t *testing.T, mount, table string, holds bool) machine.Machine {
	d := sample.LinuxDisk(1, 1)
	d = sample.With(d, 1, "etc/fstab", string(d.Partitions[1].Volume.Files["etc/fstab"])+mount)
	if table != "" {
		d = sample.With(d, 1, "etc/crypttab", table)
	}
	if holds {
		d.Partitions = append(d.Partitions, diskmaker.Partition{Type: disk.TypeLinuxData, MiB: 32,
			Volume: diskmaker.Volume{Kind: "luks", UUID: [16]byte{0xC0, 0xDE}}})
	}
	return onNewBus(t, d, "sata")
}

// What crypttab(5) opens is looked for by what it is opened from. The ends are those of real systems (package truth,
// "coming up: an encrypted volume"); what an encrypted volume holds is asked.
func TestMountsOfEncryptedVolumes(t *testing.T) {
	const mount, gone = "/dev/mapper/data /srv ext4 defaults 0 2\n", "data UUID=dead0000-0000-0000-0000-000000000000 none luks"
	const here = "data UUID=" + lockedUUID + " none luks\n"
	for name, c := range map[string]struct {
		mount, table string
		holds        bool
		want         startup.Verdict
		says         string
	}{
		"opened from what is not there":                     {mount, gone, false, startup.Stops, "which it opens from"},
		"opened from what may lie in another":               {mount, gone, true, startup.Depends, "does not tell where"},
		"not waited for":                                    {"/dev/mapper/data /srv ext4 nofail 0 2\n", gone, false, startup.Starts, "minute and a half"},
		"opened, and not mounted":                           {"", gone + ",discard\n", false, startup.Starts, "minute and a half"},
		"opened when it is there":                           {"", gone + ",nofail\n", false, startup.Starts, ""},
		"opened from what is there":                         {mount, here, true, startup.Depends, "open as in the original"},
		"swap space of a new key each time":                 {"/dev/mapper/data none swap sw 0 0\n", "data UUID=" + rootOf1 + " /dev/urandom swap\n", false, startup.Starts, ""},
		"swap space that nothing opens":                     {"/dev/mapper/data none swap sw 0 0\n", "", false, startup.Starts, "minute and a half"},
		"made by what nobody tells":                         {mount, "# none\n\nother\n", false, startup.Depends, "neither a logical volume"},
		"made by what nobody tells, without a table":        {mount, "", false, startup.Depends, "neither a logical volume"},
		"a logical volume that is not there":                {"/dev/mapper/vg-data /srv ext4 defaults 0 2\n", "", false, startup.Stops, "vg-data"},
		"opened from a device of another name, by its path": {mount, "data /dev/disk/by-uuid/" + lockedUUID + " none luks\n", true, startup.Depends, "open as in the original"},
	} {
		t.Run(name, func(t *testing.T) {
			m := crypted(t, c.mount, c.table, c.holds)
			trace := startup.Simulate(m)
			said := trace.Headline + " " + trace.Reason
			for _, f := range trace.Findings {
				said += " " + f.Text
			}
			require.Equal(t, c.want, trace.Verdict, said)
			if assert.Contains(t, said, c.says); c.says == "" {
				assert.NotContains(t, said, "minute and a half")
			}
		})
	}
	m := crypted(t, mount, here, true)
	m.Answers = map[string]string{"mapped:clone:data": "yes"}
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	m.Answers["mapped:clone:data"] = "no"
	assert.Equal(t, startup.Stops, startup.Simulate(m).Verdict)
	hostile := strings.Repeat("a/b", 200)
	m = crypted(t, "/dev/mapper/"+hostile+" /srv ext4 defaults 0 2\n", hostile+" UUID="+lockedUUID+" none luks\n", true)
	asked := startup.Simulate(m).Missing
	require.Len(t, asked, 1)
	assert.Regexp(t, `^mapped:clone:[0-9a-f]{8}$`, asked[0].ID)
	m = crypted(t, mount, gone, false)
	v := &m.Drives[0].Contents.Volumes[1]
	for i := range v.Configs {
		if c := &v.Configs[i]; c.Kind == machine.ConfigCrypttab {
			*c = machine.Config{Kind: c.Kind, Path: c.Path, Err: &disk.NotCaptured{}}
		}
	}
	assert.Equal(t, startup.Depends, startup.Simulate(m).Verdict, "a table that is not in evidence")
}

func TestTheTableOfEncryptedVolumes(t *testing.T) {
	list := loader.ParseCrypttab(
		[]byte("# comment\nswap /dev/sda3 /dev/urandom swap,cipher=aes\n\nx\nhome\tUUID=AB-CD none luks,noauto\nnet LABEL=n none _netdev"))
	require.Len(t, list, 3)
	swap, home := loader.ParseSpec("/dev/sda3"), loader.ParseSpec("UUID=AB-CD")
	assert.Equal(t, loader.Opened{Name: "swap", Spec: swap, Waited: true, Line: 2, Offset: 10, Length: 43}, list[0])
	assert.Equal(t, loader.Opened{Name: "home", Spec: home, Line: 5, Offset: 57, Length: 32}, list[1])
	assert.False(t, list[2].Waited)
}
