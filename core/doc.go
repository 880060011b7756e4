// Package core holds the rules: what is known of a machine, what it will do at power-on
// and why, how its two disks differ, and what would mend it. It has no interface code and
// touches nothing outside of it.
//
// Three laws hold in every part of it:
//
//  1. Less evidence never gives another definite answer. Where a verdict is definite with
//     some evidence, with any part of that evidence it is the same, or it depends: what is
//     not known is never "no". A fact that nobody told is unknown (package fact); a list
//     that may leave something out says so (disk.Layout.Open, firmware.Entries.Open,
//     Partition.TypeOpen, ActiveOpen, Rough); a walk that needs what is not known asks
//     (course.World) and is followed for each answer. Package internal/weaker takes
//     evidence away from every machine of which the answer is known, and holds this.
//  2. What is on a disk never acts. Values from evidence are data in every language that
//     is written (package command).
//  3. A plan is told only if its end holds (package repair).
package core
