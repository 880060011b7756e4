package linux_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/sample"
)

// A file that is mounted as a device is looked for where the root is; one in a folder that another line mounts may be
// there. What is mounted from a folder is made where it is not. Seen in a real Debian (package truth, "coming up").
func TestAFileThatIsMounted(t *testing.T) {
	const image = "/srv/a.img /mnt ext4 loop 0 0\n"
	for name, c := range map[string]struct {
		before, line string
		files        map[string]string
		verdict      startup.Verdict
		rule         course.Rule
	}{
		"there":                      {"", image, map[string]string{"srv/a.img": "x"}, startup.Starts, ""},
		"not there":                  {"", image, nil, startup.Stops, "mount-image-absent"},
		"in the folder of a name":    {"UUID=1000-0001 /sr vfat defaults 0 1\n", image, map[string]string{"sr/x": "x"}, startup.Stops, "mount-image-absent"},
		"below what is mounted":      {"UUID=1000-0001 /srv vfat defaults 0 1\n", image, map[string]string{"srv/x": "x"}, startup.Depends, "mount-doubtful"},
		"below a line that is wrong": {"UUID=1000-0001 /srv\n", image, nil, startup.Stops, "mount-image-absent"},
		"not waited for":             {"", "/srv/a.img /mnt ext4 loop,nofail 0 0\n", nil, startup.Starts, ""},
		"put together":               {"", "a:b /mnt fuse.mergerfs defaults 0 0\n", nil, startup.Depends, "mount-doubtful"},
		"from a folder":              {"", "/srv /mnt none bind 0 0\n", nil, startup.Starts, ""},
	} {
		d := sample.LinuxDisk(1, 1)
		table := string(d.Partitions[1].Volume.Files["etc/fstab"])
		d = sample.With(d, 1, "etc/fstab", table+c.before+c.line)
		for file, text := range c.files {
			d = sample.With(d, 1, file, text)
		}
		trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d.MustBuild())))
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s %s", name, trace.Headline, trace.Reason)
		if c.rule != "" {
			assert.Contains(t, rules(trace), c.rule, name)
		}
	}
}
