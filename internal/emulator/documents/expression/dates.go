package expression

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

var dateOperators = map[string]operator{
	"$year": {1, 1, datePart(func(t time.Time) int { return t.Year() })}, "$month": {1, 1, datePart(func(t time.Time) int { return int(t.Month()) })},
	"$dayOfMonth": {1, 1, datePart(func(t time.Time) int { return t.Day() })}, "$hour": {1, 1, datePart(func(t time.Time) int { return t.Hour() })},
	"$minute": {1, 1, datePart(func(t time.Time) int { return t.Minute() })}, "$second": {1, 1, datePart(func(t time.Time) int { return t.Second() })},
	"$millisecond": {1, 1, datePart(func(t time.Time) int { return t.Nanosecond() / 1e6 })}, "$dayOfYear": {1, 1, datePart(func(t time.Time) int { return t.YearDay() })},
	"$dayOfWeek": {1, 1, datePart(func(t time.Time) int { return int(t.Weekday()) + 1 })}, "$isoDayOfWeek": {1, 1, datePart(isoDay)},
	"$isoWeek": {1, 1, datePart(func(t time.Time) int { _, w := t.ISOWeek(); return w })}, "$isoWeekYear": {1, 1, datePart(func(t time.Time) int { y, _ := t.ISOWeek(); return y })},
	"$week": {1, 1, datePart(func(t time.Time) int { return (t.YearDay() + 6 - int(t.Weekday())) / 7 })},
}

func isoDay(t time.Time) int { return (int(t.Weekday())+6)%7 + 1 }

// datePart computes a part of a date, or of one with a time zone: {date, timezone}.
func datePart(part func(time.Time) int) func(*call, []bson.RawValue) (bson.RawValue, error) {
	return func(c *call, a []bson.RawValue) (bson.RawValue, error) {
		v, zone := a[0], Missing
		if v.Type == bson.TypeEmbeddedDocument {
			zone, _ = value.Member(v.Value, "timezone")
			v, _ = value.Member(v.Value, "date")
		}
		t, none, err := c.date(v, zone)
		if err != nil || none {
			return value.Null, err
		}
		return value.Of(int32(part(t))), nil
	}
}

// date reads a date in a time zone, in UTC if that is missing; none is true if it is null.
func (c *call) date(v, zone bson.RawValue) (t time.Time, none bool, err error) {
	if null(v) || zone.Type == bson.TypeNull {
		return t, true, nil
	}
	switch v.Type {
	case bson.TypeDateTime:
		t = v.Time()
	case bson.TypeObjectID:
		t = v.ObjectID().Timestamp()
	case bson.TypeTimestamp:
		seconds, _ := v.Timestamp()
		t = time.Unix(int64(seconds), 0)
	default:
		return t, false, c.wrong(v, "a date")
	}
	in, err := location(zone)
	if err != nil {
		return t, false, err
	}
	return t.In(in), false, nil
}

// location reads a time zone: a name of the tz database, or an offset.
func location(zone bson.RawValue) (*time.Location, error) {
	if zone.Type == 0 {
		return time.UTC, nil
	}
	name, ok := zone.StringValueOK()
	if !ok {
		return nil, fault.BadValue("timezone must evaluate to a string, found %s", typeName(zone))
	}
	if strings.HasPrefix(name, "+") || strings.HasPrefix(name, "-") {
		for _, layout := range []string{"-07:00", "-0700", "-07"} {
			if t, err := time.Parse(layout, name); err == nil {
				return t.Location(), nil
			}
		}
	}
	l, err := time.LoadLocation(name)
	if err != nil || name == "Local" || name == "" {
		return nil, &fault.Error{Code: 40485, Name: "Location40485", Message: fmt.Sprintf("unrecognized time zone identifier: %q", name)}
	}
	return l, nil
}

const isoFormat = "%Y-%m-%dT%H:%M:%S.%LZ"

func dateToText(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	t, none, err := c.date(a["date"], a["timezone"])
	if err != nil {
		return value.Null, err
	}
	if none {
		return orNull(a["onNull"]), nil
	}
	format := isoFormat
	if a["timezone"].Type != 0 {
		format = "%Y-%m-%dT%H:%M:%S.%L%z"
	}
	if f, given := a["format"]; given {
		var ok bool
		if format, ok = f.StringValueOK(); !ok {
			return f, c.wrong(f, "a text as its format")
		}
	}
	var out strings.Builder
	for i := 0; i < len(format); i++ {
		if format[i] != '%' || i+1 == len(format) {
			out.WriteByte(format[i])
			continue
		}
		i++
		isoYear, week := t.ISOWeek()
		_, offset := t.Zone()
		switch format[i] {
		case 'Y':
			fmt.Fprintf(&out, "%04d", t.Year())
		case 'm':
			fmt.Fprintf(&out, "%02d", t.Month())
		case 'd':
			fmt.Fprintf(&out, "%02d", t.Day())
		case 'H':
			fmt.Fprintf(&out, "%02d", t.Hour())
		case 'M':
			fmt.Fprintf(&out, "%02d", t.Minute())
		case 'S':
			fmt.Fprintf(&out, "%02d", t.Second())
		case 'L':
			fmt.Fprintf(&out, "%03d", t.Nanosecond()/1e6)
		case 'j':
			fmt.Fprintf(&out, "%03d", t.YearDay())
		case 'w':
			out.WriteString(strconv.Itoa(int(t.Weekday()) + 1))
		case 'u':
			out.WriteString(strconv.Itoa(isoDay(t)))
		case 'U':
			fmt.Fprintf(&out, "%02d", (t.YearDay()+6-int(t.Weekday()))/7)
		case 'V':
			fmt.Fprintf(&out, "%02d", week)
		case 'G':
			fmt.Fprintf(&out, "%04d", isoYear)
		case 'b':
			out.WriteString(t.Format("Jan"))
		case 'B':
			out.WriteString(t.Format("January"))
		case 'z':
			out.WriteString(t.Format("-0700"))
		case 'Z':
			out.WriteString(strconv.Itoa(offset / 60))
		case '%':
			out.WriteByte('%')
		default:
			return a["format"], &fault.Error{Code: 18536, Name: "Location18536", Message: fmt.Sprintf("Invalid format character '%%%c' in format string", format[i])}
		}
	}
	return value.Of(out.String()), nil
}

// parseDate reads a date as ISO 8601 has it.
func parseDate(text string, in *time.Location) (time.Time, error) {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05Z0700", "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, in); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no date as in 2026-11-25T14:05:00Z", text)
}

func dateFromText(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	if null(a["dateString"]) {
		return orNull(a["onNull"]), nil
	}
	if _, given := a["format"]; given {
		return Missing, fault.NotImplemented("format of $dateFromString is not here; dates of ISO 8601 are read")
	}
	text, ok := a["dateString"].StringValueOK()
	in, err := location(a["timezone"])
	if err != nil {
		return Missing, err
	}
	var t time.Time
	if ok {
		t, err = parseDate(text, in)
	}
	if !ok || err != nil {
		if or, given := a["onError"]; given {
			return or, nil
		}
		return Missing, unconvertible(a["dateString"], "date", fmt.Errorf("it is no date of ISO 8601"))
	}
	return value.Of(t), nil
}

// shift moves a date by units, and a month's last days to the last of a shorter month.
func shift(t time.Time, unit string, n int64) (time.Time, error) {
	months := int64(0)
	switch unit {
	case "year":
		months = 12 * n
	case "quarter":
		months = 3 * n
	case "month":
		months = n
	case "week":
		return t.AddDate(0, 0, int(7*n)), nil
	case "day":
		return t.AddDate(0, 0, int(n)), nil
	case "hour":
		return t.Add(time.Duration(n) * time.Hour), nil
	case "minute":
		return t.Add(time.Duration(n) * time.Minute), nil
	case "second":
		return t.Add(time.Duration(n) * time.Second), nil
	case "millisecond":
		return t.Add(time.Duration(n) * time.Millisecond), nil
	default:
		return t, fault.BadValue("unknown time unit value: %s", unit)
	}
	first := time.Date(t.Year(), t.Month()+time.Month(months), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
	return first.AddDate(0, 0, min(t.Day(), first.AddDate(0, 1, -1).Day())-1), nil
}

func dateAdd(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	t, none, err := c.date(a["startDate"], a["timezone"])
	if err != nil || none || null(a["unit"]) || null(a["amount"]) {
		return value.Null, err
	}
	n, whole := value.Integer(a["amount"])
	unit, ok := a["unit"].StringValueOK()
	if !whole || !ok || n > 1e15 || n < -1e15 {
		return a["amount"], c.wrong(a["amount"], "a unit, and a whole number as its amount")
	}
	if c.name == "$dateSubtract" {
		n = -n
	}
	t, err = shift(t, unit, n)
	return value.Of(t), err
}

// start returns the beginning of the unit in which a date is.
func start(t time.Time, unit string, week time.Weekday) (time.Time, error) {
	y, m, d := t.Date()
	in := t.Location()
	switch unit {
	case "year":
		return time.Date(y, 1, 1, 0, 0, 0, 0, in), nil
	case "quarter":
		return time.Date(y, (m-1)/3*3+1, 1, 0, 0, 0, 0, in), nil
	case "month":
		return time.Date(y, m, 1, 0, 0, 0, 0, in), nil
	case "week":
		return time.Date(y, m, d-(int(t.Weekday())-int(week)+7)%7, 0, 0, 0, 0, in), nil
	case "day":
		return time.Date(y, m, d, 0, 0, 0, 0, in), nil
	case "hour":
		return t.Truncate(time.Hour), nil
	case "minute":
		return t.Truncate(time.Minute), nil
	case "second":
		return t.Truncate(time.Second), nil
	case "millisecond":
		return t.Truncate(time.Millisecond), nil
	}
	return t, fault.BadValue("unknown time unit value: %s", unit)
}

var weekdays = map[string]time.Weekday{"sun": 0, "sunday": 0, "mon": 1, "monday": 1, "tue": 2, "tuesday": 2, "wed": 3, "wednesday": 3, "thu": 4, "thursday": 4, "fri": 5, "friday": 5, "sat": 6, "saturday": 6}

func weekStart(v bson.RawValue) (time.Weekday, error) {
	text, ok := v.StringValueOK()
	day, known := weekdays[strings.ToLower(text)]
	if v.Type == 0 {
		return time.Sunday, nil
	}
	if !ok || !known {
		return 0, fault.BadValue("unknown day of week value: %s", value.String(v))
	}
	return day, nil
}

func dateTrunc(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	t, none, err := c.date(a["date"], a["timezone"])
	if err != nil || none || null(a["unit"]) {
		return value.Null, err
	}
	if n, ok := value.Integer(a["binSize"]); a["binSize"].Type != 0 && (!ok || n != 1) {
		return Missing, fault.NotImplemented("binSize of $dateTrunc is not here but for 1")
	}
	week, err := weekStart(a["startOfWeek"])
	if err != nil {
		return Missing, err
	}
	unit, _ := a["unit"].StringValueOK()
	t, err = start(t, unit, week)
	return value.Of(t), err
}

// dateDiff counts how often a unit begins between two dates.
func dateDiff(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	from, noFrom, err := c.date(a["startDate"], a["timezone"])
	if err != nil {
		return Missing, err
	}
	to, noTo, err := c.date(a["endDate"], a["timezone"])
	if err != nil || noFrom || noTo || null(a["unit"]) {
		return value.Null, err
	}
	week, err := weekStart(a["startOfWeek"])
	if err != nil {
		return Missing, err
	}
	unit, _ := a["unit"].StringValueOK()
	if from, err = start(from, unit, week); err != nil {
		return Missing, err
	}
	to, _ = start(to, unit, week)
	days := func() int64 {
		day := func(t time.Time) time.Time { y, m, d := t.Date(); return time.Date(y, m, d, 0, 0, 0, 0, time.UTC) }
		return int64(day(to).Sub(day(from)) / (24 * time.Hour))
	}
	months := int64(to.Year()-from.Year())*12 + int64(to.Month()) - int64(from.Month())
	n := map[string]func() int64{"year": func() int64 { return int64(to.Year() - from.Year()) }, "quarter": func() int64 { return months / 3 }, "month": func() int64 { return months },
		"week": func() int64 { return days() / 7 }, "day": days, "hour": func() int64 { return int64(to.Sub(from) / time.Hour) }, "minute": func() int64 { return int64(to.Sub(from) / time.Minute) },
		"second": func() int64 { return int64(to.Sub(from) / time.Second) }, "millisecond": func() int64 { return to.Sub(from).Milliseconds() }}[unit]()
	return value.Of(n), nil
}

func dateToParts(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	t, none, err := c.date(a["date"], a["timezone"])
	if err != nil || none {
		return value.Null, err
	}
	if Truth(a["iso8601"]) {
		return Missing, fault.NotImplemented("iso8601 of $dateToParts is not here")
	}
	out := value.Begin(nil)
	for _, p := range []struct {
		name string
		n    int
	}{{"year", t.Year()}, {"month", int(t.Month())}, {"day", t.Day()}, {"hour", t.Hour()}, {"minute", t.Minute()}, {"second", t.Second()}, {"millisecond", t.Nanosecond() / 1e6}} {
		out = value.Append(out, p.name, value.Of(int32(p.n)))
	}
	return value.OfDocument(value.Finish(out)), nil
}

func dateFromParts(c *call, a map[string]bson.RawValue) (bson.RawValue, error) {
	n := map[string]int{"month": 1, "day": 1}
	for name, v := range a {
		if name == "timezone" {
			continue
		}
		if null(v) {
			return value.Null, nil
		}
		i, ok := value.Integer(v)
		if !ok || i < -32768 || i > 32767 {
			return v, c.wrong(v, "whole numbers of 16 bits")
		}
		n[name] = int(i)
	}
	in, err := location(a["timezone"])
	if err != nil {
		return Missing, err
	}
	return value.Of(time.Date(n["year"], time.Month(n["month"]), n["day"], n["hour"], n["minute"], n["second"], n["millisecond"]*1e6, in)), nil
}
