package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// waits tells of what the start waits for in vain and goes on without: swap space, and
// the image of a sleeping system. systemd's systemd-system.conf(5), DefaultTimeoutStartSec;
// resume= of the kernel's admin-guide/kernel-parameters.
func waits(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) {
	waitsToOpen(k, a, home, line)
	for _, value := range loader.KernelOptions(line.options, "resume") {
		s := loader.ParseSpec(value)
		if s.Kind == loader.ByMapped && mayBeOpened(home, s.Value) {
			continue
		}
		if hits, known := find(k, a, s); known && len(hits) == 0 {
			a.Risk("resume-absent",
				fmt.Sprintf("The kernel line has the system wake from %s, which no attached disk carries: the start waits for it, up to a minute and a half, and goes on. Take resume= out of the line, or name the swap space that is there.", s), line.cited)
		}
	}
	c := home.Volume().Config(machine.ConfigFstab, home.In("/etc/fstab"))
	if c == nil {
		return
	}
	for _, m := range c.Mounts {
		if m.Type != "swap" || m.NoFail || m.Comment != "" || m.Spec.Kind == loader.ByOther {
			continue
		}
		if m.Spec.Kind == loader.ByMapped && mayBeOpened(home, m.Spec.Value) {
			continue
		}
		if hits, known := find(k, a, m.Spec); known && len(hits) == 0 {
			a.Risk("swap-absent",
				fmt.Sprintf("The system waits a minute and a half for its swap space, %s, which no attached disk carries, and goes on without it. Take the line out of /etc/fstab, or make swap space and name that.", m.Spec),
				home.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, m.Line), m.Spec.String()+", swap",
					c.Source(home.Base(), "swap", m.Offset, m.Length)))
		}
	}
}

// lacksSubvolume reports whether a Btrfs is known to have no subvolume such as a line of the
// mount table names.
func lacksSubvolume(at machine.Spot, m loader.Mount) bool {
	if at.Volume().Subvolumes == nil {
		return false
	}
	_, there, known := at.Volume().Subvolumes.Mounted(m.Options)
	return known && !there
}

// refused says why a volume is not mounted as a line of the mount table has it; "" where nothing is known
// to keep it from that.
func refused(at machine.Spot, m loader.Mount) string {
	why := volume.Refused(&at.Volume().Volume, m.Type, m.Options)
	if p, long := overlong(at); why == "" && long {
		why = "which reaches beyond its partition: " + machine.LowerFirst(strings.TrimSuffix(p.Text, "."))
	}
	return why
}

// doubtful says why it is not known whether a volume is mounted as a line of the mount table has it.
func doubtful(at machine.Spot, m loader.Mount) string {
	for option := range strings.SplitSeq(m.Options, ",") {
		if unit, ok := strings.CutPrefix(option, "x-systemd.requires="); ok && unit != m.Point {
			return "behind " + unit + ", and whether that is there is not followed"
		}
	}
	return volume.Doubtful(&at.Volume().Volume, m.Type, m.Options)
}

// mounts checks what the system's mount table waits for; half are the mounts that
// lie on the original, and the system does not. What the evidence does not tell of it is
// left to the next stage.
func mounts(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) (half []machine.Fact,
	end *course.Result) {
	c := home.Volume().Config(machine.ConfigFstab, home.In("/etc/fstab"))
	if c == nil || c.Err != nil || home.Drive.Contents.Lost(home.Partition()) {
		return nil, nil
	}
	if _, long := overlong(home); long {
		return nil, nil // nothing comes to it
	}
	if !goesByTable(line) {
		return nil, rootStays(k, a, home, line, nil)
	}
	if end := rootStays(k, a, home, line, c); end != nil {
		return nil, end
	}
	for _, m := range c.Mounts {
		other, end := mounted(k, a, home, line, c, m)
		if end != nil {
			return nil, end
		}
		if other {
			half = append(half, citedMount(home, c, m))
		}
	}
	return half, nil
}

// mounted checks what a line of the mount table waits for; other is set where it lies on the original, and
// the system does not.
func mounted(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine, c *machine.Config,
	m loader.Mount) (other bool, end *course.Result) {
	if end := ofNoDevice(a, home, c, m); end != nil {
		return false, end
	}
	if !m.Essential() || m.Spec.Kind == loader.ByPath {
		return false, nil
	}
	cited := citedMount(home, c, m)
	open := func(r course.Rule, text, how string, more ...machine.Fact) *course.Result {
		return openAt(a, home, r, course.StageConfiguration, text, how, append(more, cited)...)
	}
	stops := func(r course.Rule, text string, more ...machine.Fact) *course.Result {
		if masks := loader.KernelOptions(line.options, "systemd.mask"); len(masks) > 0 {
			return open(r, text+" The kernel line has units left out, by systemd.mask: which ones is not followed.", course.HowTry)
		}
		end := a.Stop(r, course.StageConfiguration, course.EmergencyMode, text, append(more, cited)...)
		return &end
	}
	hits, known := seen(k, a, m.Spec)
	onOriginal := len(hits) > 0 && hits[0].Drive != home.Drive && hits[0].Drive.Role == machine.RoleOriginal
	switch {
	case m.Point == "/": // it is mounted by then
		return onOriginal, nil
	case len(hits) == 0 && m.Spec.Kind == loader.ByMapped:
		return false, openedMount(k, a, home, m, known,
			func(text string, more ...machine.Fact) *course.Result {
				return open("mount-unknown", text, course.HowCapture, more...)
			}, func(text string, more ...machine.Fact) *course.Result {
				return stops("mount-absent", text, more...)
			})
	case len(hits) == 0 && !known:
		return false, open("mount-unknown", fmt.Sprintf("The system mounts %s by %s: the evidence does not tell where that is.", m.Point, m.Spec),
			course.HowCapture)
	case len(hits) == 0:
		return false, stops("mount-absent", fmt.Sprintf("The system waits for %s, by %s, which %s.", m.Point, m.Spec, nowhere(k, a, m.Spec)))
	}
	at := hits[0]
	if lacksSubvolume(at, m) {
		return false, stops("mount-absent", fmt.Sprintf("The system mounts %s with %s, and %s has no such subvolume.", m.Point, m.Options, at.Called()))
	}
	if written := otherLetters(at, m.Spec); written != "" {
		return false, open("mount-in-other-letters",
			fmt.Sprintf("The system mounts %s by %s, and calls that %s: it tells capital letters from small ones, and waits for it in vain.",
				m.Point, m.Spec, written), course.HowTry)
	}
	what := fmt.Sprintf("The system mounts %s, %s, ", m.Point, at.Called())
	if why := refused(at, m); why != "" {
		return false, stops("mount-refused", what+why+".")
	}
	if why := doubtful(at, m); why != "" {
		return false, open("mount-doubtful", what+why+".", course.HowTry)
	}
	return onOriginal, nil
}

// ofNoDevice checks a line of the mount table that mounts what is no device: an image in a file has to be
// there. The folder of a bind mount is made where it is not, as a real system shows (package truth, "coming
// up"); what is mounted from a network is not waited for. systemd.mount(5), "Fstab".
func ofNoDevice(a *course.Attempt, home machine.Spot, c *machine.Config, m loader.Mount) *course.Result {
	if !m.OfNoDevice() {
		return nil
	}
	cited := citedMount(home, c, m)
	open := func(text, how string) *course.Result {
		return openAt(a, home, "mount-doubtful", course.StageConfiguration, fmt.Sprintf("The system mounts %s: %s.", m.Point, text), how, cited)
	}
	option := volume.UnknownOption(m.Type, m.Options)
	file, isImage := m.Image()
	there, known := home.Volume().Holds(home.In(file))
	switch {
	case isImage && known && !there && !below(c, file):
		end := a.Stop("mount-image-absent", course.StageConfiguration, course.EmergencyMode,
			fmt.Sprintf("The system mounts the image %s at %s, and it is not on %s.", file, m.Point, home.Called()), cited)
		return &end
	case isImage && !there:
		return open(fmt.Sprintf("whether the image %s is there is not in evidence", file), course.HowCapture)
	case option != "":
		return open(fmt.Sprintf("whether %s takes %s is not known here", m.Type, option), course.HowTry)
	case slices.Contains(putTogether, m.Type):
		return open("what it is put together from is not followed", course.HowTry)
	}
	return nil
}

// putTogether are types of mounts that are made of folders, which have to be there, or of what nothing here reads.
var putTogether = []string{"overlay", "fuse.mergerfs", "mergerfs", "aufs", "unionfs", "fuse.unionfs-fuse", "zfs"}

// below reports whether a file lies in what a line of the mount table mounts.
func below(c *machine.Config, file string) bool {
	return slices.ContainsFunc(c.Mounts, func(m loader.Mount) bool {
		return m.Comment == "" && m.Point != "/" && strings.HasPrefix(file, strings.TrimSuffix(m.Point, "/")+"/")
	})
}
