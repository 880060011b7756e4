package linux

import (
	"fmt"
	"hash/crc32"
	"regexp"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// opensByTable is the line of a system's table of encrypted volumes that gives a name; nil for none. Known is not set
// where the table is not in evidence.
func opensByTable(home machine.Spot, name string) (line *loader.Opened, cited machine.Fact, known bool) {
	v := home.Volume()
	c := v.Config(machine.ConfigCrypttab, home.In("/etc/crypttab"))
	if c == nil {
		return nil, cited, v.Readable
	}
	for i := range c.Opened {
		if o := &c.Opened[i]; o.Name == name {
			return o, citedOpened(home, c, *o), true
		}
	}
	return nil, cited, c.Err == nil
}

// mayBeOpened reports whether a name may be one that crypttab(5) gives.
func mayBeOpened(home machine.Spot, name string) bool {
	line, _, known := opensByTable(home, name)
	return line != nil || !known
}

func citedOpened(home machine.Spot, c *machine.Config, o loader.Opened) machine.Fact {
	return home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, o.Line), o.Name+", "+o.Spec.String(),
		c.Source(home.Base(), "encrypted volume", o.Offset, o.Length))
}

// openedMount checks a mount of what a name of the device mapper stands for, and no volume on a disk has: it is
// opened by crypttab(5) from an encrypted volume, or is a logical volume that is not there, as whose names have a
// hyphen. lvm(8), dmsetup(8).
func openedMount(k *course.Walk, a *course.Attempt, home machine.Spot, m loader.Mount, unfound bool,
	open, stops func(text string, facts ...machine.Fact) *course.Result) *course.Result {
	o, cited, known := opensByTable(home, m.Spec.Value)
	switch {
	case !known || o == nil && !unfound:
		return open(fmt.Sprintf("The system mounts %s by %s: the evidence does not tell where that is.", m.Point, m.Spec))
	case o == nil && strings.Contains(m.Spec.Value, "-"):
		return stops(fmt.Sprintf("The system waits for %s, by %s, which %s.", m.Point, m.Spec, nowhere(k, a, m.Spec)))
	case o == nil:
		return open(fmt.Sprintf("The system mounts %s by %s, which is neither a logical volume nor opened by /etc/crypttab: what makes it is not followed.",
			m.Point, m.Spec))
	}
	hits, sure := seen(k, a, o.Spec)
	switch {
	case len(hits) == 0 && !sure:
		return open(fmt.Sprintf("The system mounts %s, which it opens from %s: the evidence does not tell where that is.", m.Point, o.Spec), cited)
	case len(hits) == 0:
		return stops(fmt.Sprintf("The system waits for %s, which it opens from %s, which %s.", m.Point, o.Spec, nowhere(k, a, o.Spec)), cited)
	case k.World.Yes(course.UnknownBool, course.Question{ID: "mapped:" + home.Drive.Name + ":" + short(o.Name),
		Stage: course.StageConfiguration, Drive: home.Drive.Name,
		Text: fmt.Sprintf("Does %s open as in the original, and hold what is mounted at %s? It is encrypted.", hits[0].Called(), m.Point),
		How:  "In a live Linux: cryptsetup open on that partition, then blkid shows what it holds."}):
		return nil
	}
	return stops(fmt.Sprintf("The system waits for %s, which %s does not hold.", m.Point, hits[0].Called()), cited)
}

// short is a name as a question bears it, which is answered by it: what stands on a disk may be of any length and
// signs.
func short(name string) string {
	if plainName.MatchString(name) {
		return name
	}
	return fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(name)))
}

var plainName = regexp.MustCompile(`^[0-9A-Za-z_.+-]{1,64}$`)

// waitsToOpen tells of the encrypted volumes that the start waits for in vain, and goes on without: systemd wants
// what opens them, and does not need it, as a real one shows (package truth, "coming up").
// systemd's src/cryptsetup/cryptsetup-generator.c; systemd-cryptsetup-generator(8), "luks.crypttab=".
func waitsToOpen(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) {
	c := home.Volume().Config(machine.ConfigCrypttab, home.In("/etc/crypttab"))
	if c == nil || !loader.KernelSwitch(line.options, "luks", true) ||
		!loader.KernelSwitch(line.options, "luks.crypttab", true) {
		return
	}
	for _, o := range c.Opened {
		if hits, known := find(k, a, o.Spec); o.Waited && known && len(hits) == 0 {
			a.Risk("encrypted-absent",
				fmt.Sprintf("The system waits a minute and a half for %s, from which it opens %s, and goes on without: no attached disk carries it. Take the line out of /etc/crypttab, or name the volume that is there.",
					o.Spec, o.Name), citedOpened(home, c, o))
		}
	}
}
