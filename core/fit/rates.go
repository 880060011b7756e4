package fit

import (
	"fmt"
	"time"
)

// Rate is what a part of a copy's path carries, in bytes a second: from what a slow one
// of its kind does to what a good one does, over a whole copy and not at its best moment.
type Rate struct {
	Key  string
	Name string
	Low  float64
	High float64
	From string // the source
}

const mega = 1e6

// practice is the source of rates that were heard of people who copy every day: about
// 100 GB an hour on average machines, 84 GB in 12 minutes between solid-state drives on
// SATA, less than 6 minutes between NVMe drives with little in use, half a day for a large
// old hard disk, four hours from a hard disk to USB on a Mac.
const practice = "common practice, no source"

// Links are the ways a drive can be attached; the upper figure is what the bus can carry
// of user data. USB: the signalling rates of USB 2.0 and USB 3.2 less their coding; SATA 6
// Gbit/s less 8b/10b; PCI Express by lanes. From memory.
var Links = []Rate{
	{"usb2", "USB 2", 20 * mega, 38 * mega, practice},
	{"usb3", "USB at 5 Gbit/s", 80 * mega, 400 * mega, practice},
	{"usb31", "USB at 10 Gbit/s", 120 * mega, 900 * mega, practice},
	{"usb", "USB, which kind is not known", 20 * mega, 400 * mega, practice},
	{"ide", "IDE", 20 * mega, 90 * mega, practice},
	{"sata", "SATA", 100 * mega, 550 * mega, practice},
	{"sd", "a card", 10 * mega, 90 * mega, practice},
	{"nvme", "NVMe", 150 * mega, 3000 * mega, practice},
}

// Media are the kinds of drives.
var Media = []Rate{
	{"disk", "a hard disk", 20 * mega, 120 * mega, practice},
	{"solid", "a solid-state drive", 100 * mega, 480 * mega, practice},
	{"fast", "an NVMe drive", 150 * mega, 1500 * mega, practice},
	{"unknown", "a drive of which the kind is not known", 20 * mega, 480 * mega, practice},
}

func rate(list []Rate, key string) (Rate, bool) {
	for _, r := range list {
		if r.Key == key {
			return r, true
		}
	}
	return Rate{}, false
}

// End is one end of a copy: how the drive hangs there while it is copied, and what it is.
type End struct {
	Link   string // a key of Links; "" is not known
	Medium string // a key of Media
}

// parts are the rates of an end.
func (e End) parts() []Rate {
	var out []Rate
	if r, known := rate(Links, e.Link); known {
		out = append(out, r)
	}
	medium := e.Medium
	if medium == "" && e.Link == "nvme" {
		medium = "fast"
	}
	r, known := rate(Media, medium)
	if !known {
		r, _ = rate(Media, "unknown")
	}
	return append(out, r)
}

// Time is how long a copy takes, as a range, with what it comes from.
type Time struct {
	Known    bool
	From, To time.Duration
	Bytes    int64
	Slow     string // the slowest part of the path
	Rate     Rate   // what it carries
}

// setup is what every copy takes beside moving bytes.
const setup = 2 * time.Minute

// Long computes how long so many bytes take from one end to the other. A hard disk that
// is read as it lies is nearer to its better rate; nothing is taken for it.
func Long(bytes int64, from, to End) Time {
	if bytes <= 0 {
		return Time{}
	}
	t := Time{Known: true, Bytes: bytes}
	low, high := 0.0, 0.0
	for _, r := range append(from.parts(), to.parts()...) {
		if low == 0 || r.Low < low {
			low, t.Slow, t.Rate = r.Low, r.Name, r
		}
		if high == 0 || r.High < high {
			high = r.High
		}
	}
	t.From = setup + time.Duration(float64(bytes)/high*float64(time.Second))
	t.To = setup + time.Duration(float64(bytes)/low*float64(time.Second))
	return t
}

// Words says the range.
func (t Time) Words() string {
	if !t.Known {
		return "not known"
	}
	return span(t.From, t.To)
}

// span says a range of time as people do.
func span(from, to time.Duration) string {
	switch {
	case to < 90*time.Minute:
		a, b := minutes(from), minutes(to)
		switch {
		case a == b && a <= 1:
			return "a minute"
		case a == b:
			return fmt.Sprintf("%d minutes", a)
		}
		return fmt.Sprintf("%d to %d minutes", a, b)
	case from < time.Hour:
		return fmt.Sprintf("%d minutes to %s hours", minutes(from), hours(to))
	}
	if hours(from) == hours(to) {
		return hours(to) + " hours"
	}
	return fmt.Sprintf("%s to %s hours", hours(from), hours(to))
}

func minutes(d time.Duration) int {
	n := int((d + time.Minute - 1) / time.Minute)
	if n > 20 {
		n = (n + 4) / 5 * 5
	}
	return n
}

func hours(d time.Duration) string {
	h := d.Hours()
	if h >= 10 {
		return fmt.Sprintf("%.0f", h)
	}
	return fmt.Sprintf("%.1f", h)
}
