// Package civil counts days and microseconds of the Gregorian calendar, without time zones: a day is the number of
// days since 1970-01-01, a time of day the microseconds since midnight.
package civil

import "time"

// DayMicros is the microseconds of a day.
const DayMicros = 86_400_000_000

// Day returns the days from 1970-01-01 to a date of the Gregorian calendar.
func Day(year, month, day int) int64 {
	// Years begin in March here, so that the leap day is the last; 400 of them are an era.
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	if year < 0 {
		era = (year - 399) / 400
	}
	y := year - era*400
	ofYear := (153*(month-3)+2)/5 + day - 1
	return int64(era)*146097 + int64(y*365+y/4-y/100+ofYear) - 719468
}

// Date is the inverse of [Day].
func Date(days int64) (year, month, day int) {
	days += 719468
	era := days / 146097
	if days < 0 {
		era = (days - 146096) / 146097
	}
	d := int(days - era*146097)
	y := (d - d/1460 + d/36524 - d/146096) / 365
	d -= 365*y + y/4 - y/100
	m := (5*d + 2) / 153
	day = d - (153*m+2)/5 + 1
	month = m + 3
	if m >= 10 {
		month = m - 9
		y++
	}
	return y + int(era)*400, month, day
}

// DaysIn returns the number of days of a month.
func DaysIn(year, month int) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

// Week returns the ISO 8601 year and week of a day: those of the Thursday of the same week.
func Week(day int64) (year, number int) {
	thursday := day - ((day+3)%7+7)%7 + 3
	year, _, _ = Date(thursday)
	return year, int(thursday-Day(year, 1, 1))/7 + 1
}

// The days that dates and timestamps lie in: of the years 1 to 9999.
var (
	FirstDay = Day(1, 1, 1)
	LastDay  = Day(9999, 12, 31)
)

// WallIn returns the wall clock reading of an instant, in microseconds since 1970, in a zone; it says false where
// that is not in the years 1 to 9999.
func WallIn(instant int64, zone *time.Location) (wall int64, ok bool) {
	const margin = 2 * DayMicros // more than any zone shifts
	if instant < FirstDay*DayMicros-margin || instant > LastDay*DayMicros+margin {
		return 0, false
	}
	wall = Wall(time.UnixMicro(instant).In(zone))
	return wall, wall >= FirstDay*DayMicros && wall < (LastDay+1)*DayMicros
}

// DayOf returns the day of a timestamp, rounding towards the past.
func DayOf(micros int64) int64 {
	if micros < 0 {
		return (micros+1)/DayMicros - 1
	}
	return micros / DayMicros
}

// TimeOf returns the time of day of a timestamp. A time of day is itself.
func TimeOf(micros int64) int64 { return micros - DayOf(micros)*DayMicros }

// Wall returns the wall clock reading of t as a timestamp.
func Wall(t time.Time) int64 {
	_, offset := t.Zone()
	return t.UnixMicro() + int64(offset)*1e6
}
