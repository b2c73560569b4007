package population

import "strings"

// House is the habits of one place: what its names are and what its lists hold.
// Rates are shares of the accounts, but for those of people.
type House struct {
	Name                                   string
	Given, Families                        []string
	Village                                string // the surname of many
	Titles, Departments                    []string
	Sites                                  int
	Middle, Double, Cohorts, Switchboard   float64                         // of the people
	NoPhones, NoDays, Handles, OtherSeries float64                         // of the accounts
	FamilyFirst, OnlyShown                 float64                         // of the accounts
	Surname                                func(m *maker) string           // one more
	Latin                                  func(m *maker, s string) string // how the application writes a name
	Pairs                                  [][2]string                     // given names of two humans that look like one
	Habits
}

// Houses by name. The last is held back: measured, and not tuned to.
var Houses = []House{observatory, merger, school, works, clinic, group, cityhall, fjord, harbour, delta}

// Wide is the place that speed is measured at: lists as wide as real ones, in several
// languages, and a tenth of the people without account.
var Wide = func() House {
	h := group
	h.Name, h.Without = "wide", 0.1
	return h
}()

// HouseNamed finds a house.
func HouseNamed(name string) (House, bool) {
	for _, h := range Houses {
		if h.Name == name {
			return h, true
		}
	}
	return House{}, false
}

func made(syllables []string) func(m *maker) string {
	return func(m *maker) string {
		s := m.one(syllables) + m.one(syllables)
		if m.rng.IntN(2) == 0 {
			s += m.one(syllables)
		}
		first := firstLetter(s)
		return strings.ToUpper(first) + s[len(first):]
	}
}

var titles = []string{"Astronomer", "Night assistant", "Mechanic", "Cook", "Engineer"}

var observatory = House{
	Name: "observatory", Given: given, Families: family, Village: "Villar", Titles: titles, Departments: departments, Sites: 4, Middle: 0.15, Double: 0.12, Surname: made(syllables),
}

// merger: another house's directory, with its own numbers, few phones, and the
// whole name in one cell.
var merger = House{
	Name: "merger", Given: given, Families: family, Village: "Villar", Titles: titles, Departments: departments, Sites: 9, Middle: 0.3, Double: 0.25, Switchboard: 0.5,
	NoPhones: 0.7, NoDays: 0.5, OtherSeries: 0.5, FamilyFirst: 0.5, OnlyShown: 0.6, Surname: made(syllables),
}

// school: everybody begins on one day, families share what they have, and
// there is little else than the name.
var school = House{
	Name: "school", Given: strings.Fields("Ada Ben Cleo Dan Ella Finn Gus Hana Ida Jack Kim Leo Mia Noah Olive Paul Paula Quinn Rosa Sam Tess Uma Vic Will Xena Yan Zoe Emma Emily Lena Lina Max Mats Nora Nina Tim Tom Eva Iva Alexander Alexandra"),
	Families: strings.Fields("Adler Bauer Carter Dorn Ekman Fischer Grant Hale Irwin Jansen Keller Lang Meyer Maier Nash Olsen Olson Peters Quist Reed Stone Tanner Ullman Vogel Walsh Young Zimmer Schmidt Schmitt"),
	Village:  "Huber", Titles: []string{"Pupil", "Pupil", "Pupil", "Pupil", "Pupil", "Teacher"}, Departments: strings.Fields("Class-1 Class-2 Class-3 Class-4 Class-5 Class-6 Class-7 Class-8 Class-9 Class-10"), Sites: 2, Middle: 0.25, Double: 0.05, Cohorts: 0.95, Switchboard: 0.1,
	NoPhones: 0.3, NoDays: 0.2, Handles: 0.2, Surname: made(strings.Fields("ber der hol man son stein wick ley ton ham er ing wald bach feld berg")),
}

// works: the authority writes Cyrillic, the application Latin letters, now by
// one rule and now by another.
var works = House{
	Name: "works", Given: strings.Fields("Александр Алексей Анастасия Анна Андрей Борис Валентина Виктор Владимир Галина Дмитрий Евгений Екатерина Елена Иван Игорь Ирина Мария Михаил Наталья Николай Ольга Павел Сергей Светлана Татьяна Фёдор Юлия Юрий Ярослав"),
	Families: strings.Fields("Соколов Попов Лебедев Козлов Новиков Морозов Петров Волков Соловьёв Васильев Зайцев Павлов Семёнов Голубев Виноградов Богданов Воробьёв Фёдоров Михайлов Беляев Тарасов Белов Комаров Орлов Киселёв Макаров Андреев Ковалёв Ильин Гусев Титов Кузьмин Кудрявцев Баранов Куликов Алексеев Степанов Яковлев Сорокин Сергеев Романов Захаров Борисов Королёв Герасимов Пономарёв Григорьев Лазарев Медведев Ершов Никитин Соболев Рябов Поляков Цветков Данилов Жуков Фролов Журавлёв Николаев Щербаков Юдин Хомяков Чернов Шубин"),
	Village:  "Ивановский", Titles: titles, Departments: departments, Sites: 5, Middle: 0, Double: 0, NoPhones: 0.4, NoDays: 0.3, FamilyFirst: 0.3, OnlyShown: 0.3,
	Surname: func(m *maker) string {
		s := m.one(strings.Fields("бар вол гор дуб еж жил зар кал лом мас ноч ост пер руд сав тор уш хар цар чер шум щед ял")) + m.one(strings.Fields("ан ев ик ин ол он ош ук ыш яг")) + m.one(strings.Fields("ов ев ин ский ов ов енко ук"))
		r := []rune(s)
		return strings.ToUpper(string(r[:1])) + string(r[1:])
	},
	Latin: func(m *maker, s string) string {
		f := plain(s) // one rule
		switch m.rng.IntN(4) {
		case 0: // another
			f = strings.NewReplacer("yu", "iu", "ya", "ia", "kh", "h", "ts", "c", "zh", "j", "Yu", "Iu", "Ya", "Ia").Replace(f)
		case 1:
			f = strings.NewReplacer("y", "i", "ks", "x", "v", "w").Replace(f)
		}
		return f
	},
}

// clinic: shifts begin
// on the first of a month, most people share a ward's telephone, the application
// keeps logins that are numbers, and names are those of many countries.
var clinic = House{
	Name: "clinic", Given: strings.Fields("Aaliyah Abdul Adaeze Ahmed Aiko Amit Anjali Chen Chidi Chloe Deepak Divya Emeka Fatima Giulia Hassan Hiroshi Ibrahim Imani Jamal Jin Jorge Kavya Kenji Kwame Layla Lin Luca Mai Mei Minh Mohammed Mohamed Muhammad Nadia Ngozi Nguyen Omar Priya Rahul Ravi Rosa Sana Sara Sarah Sunita Tariq Thanh Wei Yasmin Yusuf Zara"),
	Families: strings.Fields("Abdi Adeyemi Ahmed Ali Banerjee Chen Choi Chowdhury Das Desai Diallo Eze Gupta Hussain Ito Kapoor Khan Kim Kumar Le Lee Li Lim Mensah Mohamed Nair Nakagawa Nguyen Obi Okeke Okoro Osei Park Patel Pham Rahman Rao Sato Shah Sharma Singh Suzuki Tanaka Tran Wang Wong Wu Yamamoto Yilmaz Zhang"),
	Village:  "Nguyen", Titles: []string{"Nurse", "Nurse", "Nurse", "Physician", "Porter", "Pharmacist", "Clerk"}, Departments: strings.Fields("Ward-1 Ward-2 Ward-3 Ward-4 Theatre Pharmacy Laboratory Kitchen Reception"), Sites: 3, Middle: 0.35, Double: 0.08, Cohorts: 0.3, Switchboard: 0.6,
	NoPhones: 0.5, NoDays: 0.6, Handles: 0.4, FamilyFirst: 0.2, OnlyShown: 0.3, Surname: made(strings.Fields("ad ba chi da eze fa go ha i ju ka lo ma na o pa ra sa ta u wa ya za mi nu ri shi to ke")),
}
