package listing

import (
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// diskutil(8), "apfs list": the containers, each with the partitions that it lies in and its
// volumes; from memory.

var (
	containerLine = regexp.MustCompile(`^[\s|]*\+-- Container (\S+)`)
	storeLine     = regexp.MustCompile(`^[\s|]*\+-< Physical Store (disk\d+)s(\d+) ([0-9A-F-]{36})\s*$`)
	volumeLine    = regexp.MustCompile(`^[\s|]*\+-> Volume (disk\d+s\d+) ([0-9A-F-]{36})\s*$`)
	containerItem = regexp.MustCompile(`^[\s|]*([A-Z][A-Za-z ()]*):\s+(\S.*?)\s*$`)
	volumeRole    = regexp.MustCompile(`^disk\d+s\d+ \((.*)\)$`)
)

// containerRoles are the roles as they are printed. Apple File System Reference, "Volume Roles".
var containerRoles = map[string]volume.AppleRole{"No specific role": volume.RoleNone, "System": volume.RoleSystem,
	"Preboot": volume.RolePreboot, "Recovery": 0x0004, "VM": 0x0008, "Installer": 0x0020, "Data": 0x0040}

// otherRole is one that bears on no start.
const otherRole volume.AppleRole = 0xFFC0

// containers reads them one after the other.
type containers struct {
	l      *Listing
	store  *machine.DescribedPartition // of the container at hand; the last one that is told
	stores int
	volume *volume.AppleVolume // whose items follow; nil where they are those of something else
	apple  volume.Apple
}

func isContainers(t *text) bool { return anyLine(t, storeLine.MatchString) }

// readContainers takes the partitions that containers lie in, with their volumes. That those
// of a container are all is known where something follows them.
func readContainers(t *text, l *Listing) {
	c := &containers{l: l}
	for i, s := range t.lines {
		switch {
		case containerLine.MatchString(s):
			c.end(true)
			l.mark(i+1, Passed, "")
		case storeLine.MatchString(s):
			c.takeStore(storeLine.FindStringSubmatch(s), i+1)
		case volumeLine.MatchString(s):
			c.apple.Volumes = append(c.apple.Volumes, volume.AppleVolume{UUID: volumeLine.FindStringSubmatch(s)[2],
				Role: otherRole})
			c.volume = &c.apple.Volumes[len(c.apple.Volumes)-1]
			l.mark(i+1, Understood, "a volume of the container")
		case containerItem.MatchString(s):
			m := containerItem.FindStringSubmatch(s)
			c.item(m[1], m[2], i+1)
		case strings.TrimSpace(s) != "":
			l.mark(i+1, Passed, "")
		}
		if len(c.apple.Volumes) > maxContainerVolumes {
			l.Problem = "A container lists more volumes than one has: at most 100 are taken."
			return
		}
	}
	c.end(t.after)
}

// maxContainerVolumes is more than a container may have. Apple File System Reference,
// NX_MAX_FILE_SYSTEMS.
const maxContainerVolumes = 100

func (c *containers) takeStore(m []string, line int) {
	c.volume, c.stores = nil, c.stores+1
	n, err := strconv.Atoi(m[2])
	if d := c.l.disk(m[1], line); d != nil && err == nil && n > 0 {
		if p := partition(d, n, line); p != nil {
			macContent(p, "Apple_APFS")
			p.GUID, _ = disk.ParseGUID(m[3])
			c.store = p
			c.l.mark(line, Understood, "partition %d of %s", n, m[1])
		}
	}
}

// item takes what a line tells of the store or the volume at hand.
func (c *containers) item(key, value string, line int) {
	switch {
	case c.volume == nil && key == "Size" && c.store != nil:
		number, _, _ := strings.Cut(value, " B")
		c.store.Length, _ = strconv.ParseInt(number, 10, 62)
		c.l.mark(line, Understood, "its size")
		return
	case c.volume == nil:
	case key == "APFS Volume Disk (Role)":
		if role, known := containerRoles[match(volumeRole, value)]; known {
			c.volume.Role = role
		}
		c.l.mark(line, Understood, "its role")
		return
	case key == "Name":
		name, _, _ := strings.Cut(value, " (Case-")
		c.volume.Name = name
		c.l.mark(line, Understood, "its name")
		return
	case key == "Sealed":
		c.volume.Sealed = value == "Yes"
		c.l.mark(line, Understood, "whether it is sealed")
		return
	}
	c.l.mark(line, Passed, "")
}

// end gives the container's volumes to the partition that it lies in; one that lies in several
// is none of theirs.
func (c *containers) end(whole bool) {
	if c.store != nil && c.stores == 1 && len(c.apple.Volumes) > 0 {
		apple := c.apple
		apple.Open = !whole
		c.store.Apple = &apple
	}
	*c = containers{l: c.l}
}
