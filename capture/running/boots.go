package running

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Boot is how long a start took, as the system itself recorded it.
type Boot struct {
	At   time.Time     // zero where it is not told
	Took time.Duration // from power-on or from the loader on, as What says
	What string        // what is counted
}

// maxBoots bounds the starts of one text.
const maxBoots = 200

// Windows records each start as event 100 of Diagnostics-Performance, in milliseconds:
// BootTime is from the loader until the desktop is idle, MainPathBootTime until it shows.
// From memory.
var (
	bootEvent = regexp.MustCompile(`(?s)<Event[ >].*?</Event>`)
	eventID   = regexp.MustCompile(`<EventID[^>]*>100</EventID>`)
	mainPath  = regexp.MustCompile(`Name=['"]MainPathBootTime['"]>(\d{1,9})<`)
	startedAt = regexp.MustCompile(`Name=['"]BootStartTime['"]>([0-9T:.\-]+Z)<`)
	// systemd-analyze(1): "Startup finished in 3.1s (firmware) + 1.2s (loader) + … = 12.3s".
	finished = regexp.MustCompile(`(?m)^Startup finished in (.+?) = ([0-9a-z. ]+?)\s*$`)
	stage    = regexp.MustCompile(`([0-9a-z. ]+?) \((\w+)\)`)
	span     = regexp.MustCompile(`^(?:(\d+)h ?)?(?:(\d+)min ?)?(?:(\d+(?:\.\d+)?)s)?(?:(\d+)ms)?$`)
)

func boots(text string) []Boot {
	var out []Boot
	for _, e := range bootEvent.FindAllString(text, maxBoots) {
		m := mainPath.FindStringSubmatch(e)
		if m == nil || !eventID.MatchString(e) {
			continue
		}
		ms, err := strconv.ParseInt(m[1], 10, 64)
		if err != nil || ms == 0 {
			continue
		}
		b := Boot{Took: time.Duration(ms) * time.Millisecond, What: "Windows' own record, from the loader to the desktop"}
		if at := startedAt.FindStringSubmatch(e); at != nil {
			b.At, _ = time.Parse(time.RFC3339Nano, at[1])
		}
		out = append(out, b)
	}
	for _, m := range finished.FindAllStringSubmatch(text, maxBoots) {
		if b, ok := analysed(m[1], m[2]); ok {
			out = append(out, b)
		}
	}
	return out[:min(len(out), maxBoots)]
}

// analysed reads a line of systemd-analyze. The firmware's part is not told on every
// machine, so what is counted is said.
func analysed(stages, total string) (Boot, bool) {
	took, ok := duration(total)
	if !ok {
		return Boot{}, false
	}
	b := Boot{Took: took, What: "systemd-analyze, from the kernel on"}
	for _, s := range stage.FindAllStringSubmatch(stages, 8) {
		if s[2] == "firmware" {
			b.What = "systemd-analyze, from power-on"
		}
	}
	return b, true
}

// duration reads systemd's form of a span: systemd.time(7).
func duration(s string) (time.Duration, bool) {
	m := span.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil || m[0] == "" {
		return 0, false
	}
	hours, _ := strconv.Atoi("0" + m[1])
	minutes, _ := strconv.Atoi("0" + m[2])
	seconds, _ := strconv.ParseFloat("0"+m[3], 64)
	ms, _ := strconv.Atoi("0" + m[4])
	d := time.Duration(hours)*time.Hour + time.Duration(minutes)*time.Minute +
		time.Duration(seconds*float64(time.Second)) + time.Duration(ms)*time.Millisecond
	return d, d > 0 && d < 24*time.Hour
}

// Timer reads a time that was stopped by hand: "31 s", "31", "1:05", "1 min 5 s".
func Timer(s string) (time.Duration, bool) {
	s = strings.ToLower(strings.ReplaceAll(strings.TrimSpace(s), ",", "."))
	if m := regexp.MustCompile(`^(\d{1,3}):([0-5]\d(?:\.\d+)?)$`).FindStringSubmatch(s); m != nil {
		minutes, _ := strconv.Atoi(m[1])
		seconds, _ := strconv.ParseFloat(m[2], 64)
		return time.Duration(minutes)*time.Minute + time.Duration(seconds*float64(time.Second)), true
	}
	for _, unit := range []struct{ from, to string }{{"minutes", "min"}, {"minute", "min"}, {"seconds", "s"}, {"second", "s"}, {"sec", "s"}} {
		s = strings.ReplaceAll(s, unit.from, unit.to)
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		s += "s"
	}
	s = strings.ReplaceAll(strings.ReplaceAll(s, " s", "s"), " min", "min")
	return duration(s)
}
