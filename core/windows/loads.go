package windows

import (
	"fmt"
	"path"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// What is loaded before Windows runs: its loader, and by that the kernel and the registry. What
// shows where one lacks is common practice, no source.

// loads asks for each of them.
func loads(a *course.Attempt, home machine.Spot, loaderPath string) *course.Result {
	if loaderPath == "" {
		return nil
	}
	if end := sound(a, home, loaderPath, "system-loader", course.SystemLoaderGone, course.SystemLoaderDamaged); end != nil {
		return end
	}
	folder := path.Dir(strings.ReplaceAll(strings.ToLower(loaderPath), `\`, "/"))
	if folder != "/windows/system32" {
		return nil
	}
	if end := sound(a, home, machine.WindowsKernel, "system-kernel", course.SystemKernelGone, course.SystemKernelGone); end != nil {
		return end
	}
	return registry(a, home)
}

// sound asks whether a file is there and begins as a program: its name alone starts nothing.
func sound(a *course.Attempt, home machine.Spot, name, rule string, gone, damaged course.Symptom) *course.Result {
	ended := func(end course.Result) *course.Result {
		end.Home = home
		return &end
	}
	if end := present(a, home, name, rule, gone); end != nil {
		return end
	}
	p, source, err := home.Payload(name)
	if err != nil {
		text, how := "What is in "+name+" is not in evidence.", course.HowCapture
		if !disk.IsNotCaptured(err) {
			text, how = fmt.Sprintf("%s cannot be read: %v.", name, err), course.HowTry
		}
		return ended(a.Unproven(course.Rule(rule+"-missing-evidence"), course.StageSystem, text, how))
	}
	if p.Form == loader.PayloadProgram {
		return nil
	}
	return ended(a.Stop(course.Rule(rule+"-unsound"), course.StageSystem, damaged,
		fmt.Sprintf("%s on partition %d is no program: it begins otherwise, or is empty.", name, home.Partition().Number),
		home.Drive.Cite(name, fmt.Sprintf("%s, %d bytes", p.Form, p.Size), source)))
}

// present asks whether a file is there.
func present(a *course.Attempt, home machine.Spot, name, rule string, gone course.Symptom) *course.Result {
	there, known := home.Volume().Holds(name)
	if there {
		return nil
	}
	v, p, d := home.Volume(), home.Partition(), home.Drive
	var end course.Result
	if !known {
		end = a.Unproven(course.Rule(rule+"-missing-evidence"), course.StageSystem, name+" is not in evidence.", course.HowCapture)
	} else {
		end = a.Stop(course.Rule(rule+"-absent"), course.StageSystem, gone, fmt.Sprintf("%s is not on partition %d.", name, p.Number),
			d.Cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source))
	}
	end.Home = home
	return &end
}

// registry asks for the SYSTEM hive. One that is damaged may be put right by its logs.
func registry(a *course.Attempt, home machine.Spot) *course.Result {
	if end := present(a, home, machine.SystemHive, "system-registry", course.SystemRegistryGone); end != nil {
		return end
	}
	err := home.Volume().SystemErr
	if err == nil {
		return nil
	}
	text, how := "What is in "+machine.SystemHive+" is not in evidence.", course.HowCapture
	if !disk.IsNotCaptured(err) {
		text, how = fmt.Sprintf("%s cannot be read: %v. Windows loads it before anything else of its own, and may put it right by its logs.", machine.SystemHive, err), course.HowTry
	}
	end := a.Unproven("system-registry-unread", course.StageSystem, text, how)
	end.Home = home
	return &end
}
