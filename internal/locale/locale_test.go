package locale

import (
	"strings"
	"testing"
)

// TestFind finds languages by tags of all kinds, with names that other libraries have, too.
func TestFind(t *testing.T) {
	for tag, want := range map[string]string{
		"en":      "en January Sunday Sunday, March 9, 2025|March 9, 2025|Mar 9, 2025|3/9/25|March 2025|Q1 2025",
		"en-GB":   "en-GB January Sunday Sunday, 9 March 2025|9 March 2025|9 Mar 2025|09/03/2025|March 2025|Q1 2025",
		"de":      "de Januar Sonntag Sonntag, 9. März 2025|9. März 2025|09.03.2025|09.03.25|März 2025|Q1 2025",
		"de-AT":   "de-AT Jänner Sonntag Sonntag, 9. März 2025|9. März 2025|09.03.2025|09.03.25|März 2025|Q1 2025",
		"cs":      "cs leden neděle neděle 9. března 2025|9. března 2025|9. 3. 2025|09.03.25|březen 2025|Q1 2025",
		"pl":      "pl styczeń niedziela niedziela, 9 marca 2025|9 marca 2025|9 mar 2025|9.03.2025|marzec 2025|I kw. 2025",
		"fi":      "fi tammikuu sunnuntai sunnuntai 9. maaliskuuta 2025|9. maaliskuuta 2025|9.3.2025|9.3.2025|maaliskuu 2025|1. nelj. 2025",
		"pt-BR":   "pt janeiro domingo domingo, 9 de março de 2025|9 de março de 2025|9 de mar. de 2025|09/03/2025|março de 2025|T1 de 2025",
		"ja":      "ja 1月 日曜日 2025年3月9日日曜日|2025年3月9日|2025/03/09|2025/03/09|2025年3月|2025/Q1",
		"zh-TW":   "zh-Hant 1月 星期日 2025年3月9日 星期日|2025年3月9日|2025年3月9日|2025/3/9|2025年3月|2025年第1季",
		"sr-ME":   "sr-Latn-ME januar nedjelja nedjelja, 9. mart 2025.|9. mart 2025.|9. 3. 2025.|9. 3. 2025.|mart 2025.|1. kv. 2025.",
		"haw":     "haw Ianuali Lāpule Lāpule, 9 Malaki 2025|9 Malaki 2025|9 Mal. 2025|9/iii/25|2025 Malaki|2025 Q1",
		"es-x-my": "es enero domingo domingo, 9 de marzo de 2025|9 de marzo de 2025|9 mar 2025|9/3/25|marzo de 2025|T1 2025",
	} {
		l, err := Find(tag)
		if err != nil {
			t.Error(err)
			continue
		}
		var dates []string
		for _, p := range []Pattern{l.Full, l.Long, l.Medium, l.Short, l.MonthAndYear, l.QuarterLabel} {
			dates = append(dates, string(p.Append(nil, 2025, 3, 9, 7)))
		}
		got := l.Tag + " " + l.Months.Wide.StandAlone[0] + " " + l.Weekdays.Wide.StandAlone[6] + " " + strings.Join(dates, "|")
		if got != want {
			t.Errorf("%s: got  %s\nwant %s", tag, got, want)
		}
	}
	for _, tag := range []string{"", "xx", "tlh", "und", "az-Arab", "de_DE_"} {
		if l, err := Find(tag); err == nil {
			t.Errorf("%q is %s", tag, l.Tag)
		}
	}
}

// TestTable reads every locale of the table: all have their names, and write dates.
func TestTable(t *testing.T) {
	all := load()
	for tag := range all.fields {
		l := all.locale(tag)
		for _, x := range []struct {
			forms Forms
			n     int
		}{{l.Months.Wide, 12}, {l.Months.Short, 12}, {l.Weekdays.Wide, 7}, {l.Weekdays.Short, 7}, {l.Quarters.Wide, 4}, {l.Quarters.Short, 4}} {
			if len(x.forms.StandAlone) != x.n || len(x.forms.Format) != x.n {
				t.Errorf("%s: %v", tag, x.forms)
			}
		}
		date := string(l.Long.Append(nil, 2025, 12, 31, 3))
		if !strings.Contains(date, "31") || !strings.Contains(date, "2025") {
			t.Errorf("%s: %s", tag, date)
		}
	}
	if len(all.fields) < 500 || Version() != "48" {
		t.Errorf("%d locales of release %s", len(all.fields), Version())
	}
	for territory, want := range map[string]Week{
		"US": {7, 1, []int{6, 7}}, "DE": {1, 4, []int{6, 7}}, "EG": {6, 1, []int{5, 6}}, "IR": {6, 1, []int{5}}, "BR": {7, 1, []int{6, 7}}, "IN": {7, 1, []int{7}},
	} {
		w, ok := WeekOf(territory)
		if !ok || w.FirstDay != want.FirstDay || w.LeastDays != want.LeastDays || len(w.Weekend) != len(want.Weekend) || w.Weekend[0] != want.Weekend[0] {
			t.Errorf("%s: %+v, %v", territory, w, ok)
		}
	}
	if w, ok := WeekOf("XY"); ok {
		t.Errorf("XY: %+v", w)
	}
}
