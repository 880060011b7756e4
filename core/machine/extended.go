package machine

import "latchkey/core/disk"

// ExtendedOpen reports whether it is not told in which extended partition a logical one lies: a
// listing leaves that one out.
func (c *Contents) ExtendedOpen(p disk.Partition) bool {
	return p.Logical && c.Extended(p) == 0 && c.Layout.Told()
}

// Extended is the number of the extended partition that a logical one lies in, 0 for any
// other.
func (c *Contents) Extended(p disk.Partition) int {
	if !p.Logical || c.Layout.MBR == nil {
		return 0
	}
	for _, e := range c.Layout.MBR.Entries {
		if e.Extended() && e.Start <= p.Start && p.Start < e.Start+e.Length {
			return e.Number
		}
	}
	return 0
}
