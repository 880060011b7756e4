package api

import (
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"latchkey/core/compare"
	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/repair"
	"latchkey/core/startup"
)

// annotate says in the description of the interface what the fields of the rules' own
// types mean, and which values they take: the rules know nothing of an interface.
func annotate(schemas huma.Registry) {
	for name, schema := range schemas.Map() {
		t := schemas.TypeFromRef("#/components/schemas/" + name)
		if t == nil || t.Kind() != reflect.Struct {
			continue
		}
		for _, f := range reflect.VisibleFields(t) {
			json, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			property := schema.Properties[json]
			if property == nil {
				continue
			}
			of := f.Type
			key := declaring(t, f).String() + "." + f.Name
			if text, ok := meanings[key]; ok && property.Ref == "" {
				property.Description = text
			}
			if property.Items != nil && of.Kind() == reflect.Slice {
				property, of = property.Items, of.Elem()
			}
			if list := append(valuesOf[of], valuesAt[key]...); property.Enum == nil && len(list) > 0 {
				property.Enum = list
			}
		}
	}
}

// declaring returns the type that a field stands in, through what is embedded.
func declaring(t reflect.Type, f reflect.StructField) reflect.Type {
	for _, i := range f.Index[:len(f.Index)-1] {
		if t = t.Field(i).Type; t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
	}
	return t
}

func anyOf[T any](values ...T) []any {
	list := []any{}
	for _, v := range values {
		list = append(list, v)
	}
	return list
}

// valuesOf lists the values of the rules' types of words.
var valuesOf = map[reflect.Type][]any{
	reflect.TypeFor[compare.Matter](): anyOf(compare.Decides, compare.Matters, compare.NotKnown, compare.Fine,
		compare.Agrees),
	reflect.TypeFor[course.State](): anyOf(course.Passes, course.Blocks, course.Unproven, course.Behind,
		course.Wrong),
	reflect.TypeFor[disk.Role](): anyOf(disk.RoleBoot, disk.RoleSystem, disk.RoleReserved, disk.RoleRecovery,
		disk.RoleData, disk.RoleOther, disk.RoleUnknown),
	reflect.TypeFor[repair.Risk]():     anyOf(repair.Risks...),
	reflect.TypeFor[repair.Shell]():    anyOf(repair.POSIX, repair.Batch),
	reflect.TypeFor[repair.Toolbox]():  anyOf(repair.Toolboxes...),
	reflect.TypeFor[startup.Verdict](): anyOf(startup.Starts, startup.StartsOriginal, startup.Stops, startup.Depends),
}

// valuesAt lists the values of single fields.
var valuesAt = map[string][]any{
	"compare.Doubt.Kind":       anyOf("same", "alike", "swapped", "elsewhere"),
	"compare.Pair.By":          anyOf("unique GUID", "type and order", "position", compare.Nothing, compare.NotTold),
	"machine.Reference.Means":  anyOf("this", "other", "both", "none", "unknown"),
	"startup.Finding.Severity": anyOf("blocks", "risk", "unproven"),
	"symptom.Ranked.Fit":       anyOf("computed", "open", "against"),
}

// meanings say what fields mean, by the type that they stand in and their name.
var meanings = map[string]string{
	"compare.Doubt.Kind":             "Both pieces are one disk, nothing tells them apart, they look exchanged, or a piece fits the other disk better",
	"compare.Pair.By":                "How the counterpart was found, or why there is none",
	"compare.Row.Meaning":            "What it means for the start",
	"course.Attempt.Also":            "Other drives that answer to the same entry",
	"course.Attempt.Entry":           "Boot entry number, four hexadecimal digits",
	"course.Attempt.Final":           "Nothing is tried after this attempt",
	"course.Attempt.HandsOver":       "The loader was started",
	"course.Attempt.Name":            "The boot entry's description",
	"course.Step.How":                "What would prove it, where it is unproven",
	"course.Step.Risks":              "What does not block here and is worth knowing",
	"disk.Problem.Code":              "Stable identifier of the kind of problem",
	"disk.Problem.Got":               "What was found there",
	"disk.Problem.Want":              "What was expected there",
	"disk.TypeRow.Code":              "Type GUID of a GPT entry, or two hexadecimal digits of an MBR record",
	"fact.Source.Drive":              "Name of the drive the bytes were read from",
	"fact.Source.Evidence":           "The listing that the fact was read in",
	"fact.Source.Field":              "The field within the structure",
	"fact.Source.Length":             "Length in bytes; 0 when the fact has no bytes of its own",
	"fact.Source.Line":               "The line of the listing, from 1",
	"fact.Source.Offset":             "Byte offset from the start of the disk",
	"fact.Source.Origin":             "What kind of evidence the fact came from",
	"fact.Source.Structure":          "The structure, in the standard's words",
	"machine.Contradiction.Stronger": "What is used",
	"machine.Reference.Drive":        "The drive that the holder lies on; absent for the firmware",
	"machine.Reference.Holder":       "Who names it",
	"machine.Reference.Kind":         "By what it is named",
	"machine.Reference.Means":        "On which disk it exists, seen from the holder's; for the firmware this is the clone",
	"repair.Command.Bad":             "What to do on another one",
	"repair.Command.ByHand":          "A thing to do, in words, and no line to type",
	"repair.Command.Good":            "What a good answer looks like",
	"repair.Form.Shell":              "What the lines are of; absent when there is none to type",
	"repair.Plan.Reason":             "Why it is this plan, or why there is none",
	"repair.Plan.States":             "How many machines were simulated in the search",
	"repair.PlanStep.Also":           "The same step by other toolboxes",
	"repair.PlanStep.Disk":           "The drive it touches; absent when it touches none",
	"repair.PlanStep.Key":            "The action with what it is done to: names the step in a session",
	"repair.PlanStep.Save":           "What must be saved first, in words",
	"repair.PlanStep.Saves":          "The sectors it overwrites: they are saved first",
	"repair.PlanStep.Why":            "What it puts right",
	"repair.Stratum.Holds":           "The kind of its volume, or what it is for",
	"repair.Stratum.By":              "By what its place is told",
	"repair.Stratum.Sure":            "Its file system and a table or record say the same",
	"repair.Session.Done":            "What was done, each with how the machine stands after it",
	"repair.State.Pins":              "Of the clone",
	"startup.Trace.Attempts":         "What the firmware tries, in order",
	"startup.Trace.Complete":         "Whether all of them were",
	"startup.Trace.Headline":         "The verdict in one sentence",
	"startup.Trace.Missing":          "The facts that would settle the verdict, best first",
	"startup.Trace.Reason":           "The technician's reason",
	"startup.Trace.Stage":            "Where it stops",
	"startup.Trace.Symptom":          "What the person at the machine sees",
	"startup.Trace.Worlds":           "How many ways the unknown facts could stand were evaluated",
	"symptom.Cause.Look":             "How to tell",
	"symptom.Cause.Mode":             "The firmware mode it can happen in; absent for any",
	"symptom.Judgement.Messages":     "What it can be, the best first",
	"symptom.Judgement.Verdict":      "How message and computation stand to each other, in a sentence",
	"symptom.Match.Score":            "1 for all words typed, less for fewer",
	"symptom.Message.Also":           "Other wordings of the same",
	"symptom.Message.Causes":         "The likeliest first",
	"symptom.Message.From":           "Who says it",
	"symptom.Message.Mode":           "The firmware mode it belongs to; absent for any",
	"symptom.Message.Shown":          "As it stands on the screen, or the sign in words",
	"symptom.Ranked.Because":         "What the evidence says of that stage",
	"symptom.Ranked.Message":         "The message it belongs to",
}
