package machine

import "slices"

// UsrPoint is where a part of the system may lie on a volume of its own, and usrSigns what that holds at
// its top, as no root does. Filesystem Hierarchy Standard 3.0, section 4.2.
const UsrPoint = "/usr"

var usrSigns = []string{"/bin", "/lib", "/share"}

// usr is the only volume that looks like the /usr of the system at a root.
func (c *Contents) usr(root Address) (at Address, ok bool) {
	for _, s := range (&Drive{Contents: c}).Spots() {
		v := s.Volume()
		holds := func(name string) bool { there, _ := v.Holds(name); return there }
		if p := s.Address(); p == root || !v.keepsLinux() || holds("/etc") || holds("/usr") ||
			slices.ContainsFunc(usrSigns, func(name string) bool { return !holds(name) }) {
			continue
		}
		if ok {
			return Address{}, false
		}
		at, ok = s.Address(), true
	}
	return at, ok
}
