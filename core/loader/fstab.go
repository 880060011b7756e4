package loader

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Mount is a line of /etc/fstab.
type Mount struct {
	Spec    Spec
	Tagged  bool // by a tag and its value, which is looked up, and not by the path of a device
	Point   string
	Field   string // the mount point as it is written, with what is escaped
	Type    string
	Options string
	NoFail  bool // the start goes on without it
	Line    int
	Offset  int64 // bytes from the start of the file
	Length  int64
	Comment string // "" for a sound line, else what is wrong with it
	Again   bool   // a line before it mounts at the same point, and that one counts
}

// OfTheSystem reports whether what is mounted is a part of the system that no start goes on without,
// whatever the mount table says. Filesystem Hierarchy Standard 3.0, sections 3.2 and 4.
func (m Mount) OfTheSystem() bool {
	return slices.Contains([]string{"/", "/usr", "/bin", "/sbin", "/lib", "/lib64", "/etc"}, m.Point)
}

// Essential reports whether the start waits for the mount and ends in emergency
// mode without it. systemd's systemd.mount(5), "Fstab". What is no device, such as a folder that is mounted
// elsewhere, is another matter (OfNoDevice). Of two lines for one point systemd takes the first, as a real one
// shows (package truth, "coming up").
func (m Mount) Essential() bool { return m.waitedFor() && m.ofDevice() }

// OfNoDevice reports whether the start waits for a mount of what is no device: of a file, of folders, or of
// the kernel's own. What comes from a network is not waited for. systemd.mount(5), "Fstab".
func (m Mount) OfNoDevice() bool {
	return m.waitedFor() && !m.ofDevice() && !slices.Contains(byNetwork, strings.TrimPrefix(m.Type, "fuse."))
}

// byNetwork are the types that systemd takes for a network's. Its src/basic/mountpoint-util.c, fstype_is_network.
var byNetwork = []string{"afs", "ceph", "cifs", "smb3", "smbfs", "sshfs", "ncpfs", "ncp", "nfs", "nfs4", "gfs", "gfs2", "glusterfs", "pvfs2",
	"ocfs2", "lustre", "davfs"}

func (m Mount) waitedFor() bool {
	return m.Comment == "" && (!m.NoFail || m.OfTheSystem()) && !m.Again && m.Type != "swap" && strings.HasPrefix(m.Point, "/")
}

func (m Mount) ofDevice() bool {
	return m.Spec.Kind != ByOther || strings.HasPrefix(m.Spec.Value, "/dev/")
}

// Image is the file that is mounted as a device; ok is false for any other mount. mount(8), "THE LOOP-DEVICE SUPPORT".
func (m Mount) Image() (file string, ok bool) {
	options := strings.Split(m.Options, ",")
	isFile := strings.HasPrefix(m.Spec.Value, "/") && !strings.HasPrefix(m.Spec.Value, "//")
	is := m.Spec.Kind == ByOther && isFile && !m.ofDevice() &&
		!slices.ContainsFunc([]string{"bind", "rbind", "move"}, func(o string) bool { return slices.Contains(options, o) }) &&
		!slices.Contains(noFile, m.Type) && !strings.HasPrefix(m.Type, "fuse")
	return m.Spec.Value, is
}

// noFile are types of mounts that take no file for a device.
var noFile = []string{"none", "bind", "rbind", "tmpfs", "overlay", "proc", "sysfs", "mergerfs", "aufs", "zfs", "autofs", "ecryptfs"}

// ParseFstab reads a table of mounts. fstab(5).
func ParseFstab(raw []byte) []Mount {
	var mounts []Mount
	for _, l := range lines(raw) {
		if l.text == "" || strings.HasPrefix(l.text, "#") {
			continue
		}
		m := Mount{Line: l.number, Offset: l.offset, Length: int64(len(l.text))}
		fields := strings.Fields(l.text)
		if len(fields) < 3 {
			m.Comment = fmt.Sprintf("%d fields, expected at least device, mount point and type", len(fields))
			mounts = append(mounts, m)
			continue
		}
		m.Spec, m.Point, m.Field, m.Type = ParseSpec(unescape(fields[0])), unescape(fields[1]), fields[1], fields[2]
		m.Tagged = strings.Contains(fields[0], "=") && !strings.HasPrefix(fields[0], "/")
		if strings.HasPrefix(m.Point, "/") {
			m.Point = path.Clean(m.Point)
		}
		if len(fields) > 3 {
			m.Options = fields[3]
			for o := range strings.SplitSeq(fields[3], ",") {
				m.NoFail = m.NoFail || slices.Contains(goesOn, o)
			}
		}
		same := func(o Mount) bool { return o.Comment == "" && o.Point == m.Point }
		m.Again = strings.HasPrefix(m.Point, "/") && slices.ContainsFunc(mounts, same)
		mounts = append(mounts, m)
	}
	return mounts
}

// goesOn are the options of a mount that the start does not wait for, or goes on without.
// systemd.mount(5), "Fstab": one by the network belongs to another target, and one that is mounted when
// somebody looks into it is not mounted at the start.
var goesOn = []string{"nofail", "noauto", "_netdev", "x-systemd.automount", "comment=systemd.automount"}

// unescape puts back what fstab(5) writes in octal: spaces, tabs and the like.
func unescape(s string) string {
	return octalEscape.ReplaceAllStringFunc(s, func(e string) string {
		n, err := strconv.ParseUint(e[1:], 8, 8)
		if err != nil {
			return e
		}
		return string([]byte{byte(n)})
	})
}

var octalEscape = regexp.MustCompile(`\\[0-7]{3}`)
