package calendar

import "ironmonger/internal/civil"

// Easter returns Easter Sunday of the western churches: the Sunday after the first full moon on or after 21 March, as
// the Gregorian reform computes it. The formula is that of Meeus, Astronomical Algorithms, chapter 8.
func Easter(year int) int64 {
	a, b, c := year%19, year/100, year%100
	d, e := b/4, b%4
	f := (b + 8) / 25
	g := (b - f + 1) / 3
	h := (19*a + b - d - g + 15) % 30
	i, k := c/4, c%4
	l := (32 + 2*e + 2*i - h - k) % 7
	m := (a + 11*h + 22*l) / 451
	n := h + l - 7*m + 114
	return civil.Day(year, n/31, n%31+1)
}

// OrthodoxEaster returns Easter Sunday of the orthodox churches, which compute it in the Julian calendar, as a day of
// the Gregorian one. The formula is that of Meeus, Astronomical Algorithms, chapter 8.
func OrthodoxEaster(year int) int64 {
	a, b, c := year%4, year%7, year%19
	d := (19*c + 15) % 30
	e := (2*a + 4*b - d + 34) % 7
	n := d + e + 114
	// the Julian calendar is behind by the leap days that the Gregorian one has left out
	return civil.Day(year, n/31, n%31+1) + int64(year/100-year/400-2)
}
