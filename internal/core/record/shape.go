package record

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"twinning/internal/core/budget"
	"twinning/internal/core/document"
)

// Source says how one canonical attribute is filled.
type Source struct {
	Native  string   `json:"from"`
	Split   string   `json:"split,omitempty"`   // separator of a list inside one native value
	True    []string `json:"true,omitempty"`    // native words that mean true
	False   []string `json:"false,omitempty"`   // native words that mean false
	Date    string   `json:"date,omitempty"`    // layout such as DD.MM.YYYY, or a word of dateCodings; default ISO 8601
	Bit     uint32   `json:"bit,omitempty"`     // flag inside a native number: the attribute is Means when it is set
	Means   bool     `json:"means,omitempty"`   // see Bit and Present
	Present string   `json:"present,omitempty"` // any native value at all says Means; this one is written for it
	Prefix  string   `json:"prefix,omitempty"`  // only values that begin exactly so, without it
	Coding  string   `json:"coding,omitempty"`  // of bytes that are no text: guid, hex or base64; done by the connector
	Refers  string   `json:"refers,omitempty"`  // the values are this native attribute of other records, whose id is meant
}

// Memberships is the native attribute that stands for the groups that a record is in.
const Memberships = "memberships"

// Nested is the one that stands for the groups which those are in, and so on.
const Nested = "memberships.nested"

// Owned is the one that stands for the groups that a record owns.
const Owned = "memberships.owned"

// AsksMemberships reports whether the groups that records are in are read from the system's
// groups.
func (s Shape) AsksMemberships() bool { return s.Attributes["groups"].Native == Memberships }

// Memberships lists the natives of a record that are read of the system's groups, and not of the
// record itself.
func (s Shape) Memberships() (natives []string) {
	for _, name := range []string{Memberships, Nested, Owned} {
		if s.Asks(name) {
			natives = append(natives, name)
		}
	}
	return natives
}

// Asks reports whether an attribute is read from a native one.
func (s Shape) Asks(native string) bool {
	for _, src := range s.Attributes {
		if src.Native == native {
			return true
		}
	}
	return false
}

// Shape maps a system's native attributes to canonical ones.
type Shape struct {
	Attributes map[string]Source `json:"attributes"`
	Stable     bool              `json:"stable"` // the id survives renames
	// LeaveUnnamed leaves out rows that carry neither login, address nor name: a
	// total, say. They stand for nobody, so nothing has to wait for them.
	LeaveUnnamed bool     `json:"leaveUnnamed,omitempty"`
	Mark         string   `json:"mark,omitempty"`    // canonical attribute that carries our mark
	Classes      []string `json:"classes,omitempty"` // object classes of a new directory entry
	Upload       *Upload  `json:"upload,omitempty"`  // the file that the system's own upload takes
	zone         *time.Location
}

// In is the shape as a lane of that zone reads it: an instant falls on the day that
// it is there. Without a zone it falls on its day in UTC.
func (s Shape) In(zone *time.Location) Shape {
	s.zone = zone
	return s
}

// ParseShape reads a shape document:
//
//	shape:
//	  id: staff_no                        # canonical: native
//	  aliases: {from: other_mail, split: ";"}
//	  active: {from: status, true: [A], false: [L]}
//	stable: true                          # the id survives renames (default)
//	mark: externalId                      # where our mark goes, if anywhere
//	unnamed: leave-out                    # rows without login, address and name stand for nobody (default: reject)
//
// The error, if any, is document.Problems.
func ParseShape(src []byte) (Shape, error) {
	doc, root := document.Parse(src)
	shape := Shape{Attributes: map[string]Source{}, Stable: true}
	fields := root.Declared(ShapeKeys)
	if n, ok := fields["stable"]; ok {
		shape.Stable = n.Bool()
	}
	shape.Mark = fields["mark"].Text()
	shape.LeaveUnnamed = fields["unnamed"].Word(ShapeKeys, "unnamed") == "leave-out"
	shape.Classes = words(fields["classes"])
	if n, ok := fields["upload"]; ok {
		shape.Upload = parseUpload(n)
	}
	if err := budget.Columns.Over(int64(len(fields["shape"].Entries())), "the number of the shape's attributes"); err != nil {
		fields["shape"].Problem("%v", err)
		return shape, doc.Err()
	}
	for _, e := range fields["shape"].Entries() {
		shape.Attributes[e.Key] = parseSource(e.Key, e.Value)
	}
	if root.Present() && len(shape.Attributes) == 0 {
		root.Problem("a shape needs at least `shape:` with `id: COLUMN`")
	} else if _, ok := shape.Attributes["id"]; root.Present() && !ok {
		fields["shape"].Problem("no column is named for `id`; add `id: COLUMN`")
	}
	return shape, doc.Err()
}

func parseSource(name string, n document.Node) Source {
	if _, ok := Canonical(name); !ok && !ValidName(name) {
		n.Problem("%q can not be an attribute's name; use letters, digits and _, starting with a letter", name)
	}
	if !n.IsMap() {
		if n.Text() == "" {
			n.Problem("name the native attribute that feeds %s", name)
		}
		return Source{Native: n.Text()}
	}
	f := n.Declared(ShapeKeys)
	s := Source{Native: f["from"].Text(), Split: f["split"].Text(), Date: f["date"].Text(), Present: f["present"].Text(), Prefix: f["prefix"].Text(), Coding: f["coding"].Text(), Refers: f["refers"].Text()}
	if s.Native == "" {
		n.Problem("`from:` must name the native attribute")
	}
	s.True, s.False = words(f["true"]), words(f["false"])
	if bit, ok := f["bit"]; ok {
		v, err := strconv.ParseUint(bit.Text(), 0, 32)
		if err != nil || v == 0 || v&(v-1) != 0 {
			bit.Problem("%q is not one bit; expected a power of two such as 2 or 0x200", bit.Text())
		}
		s.Bit = uint32(v) // parsed with 32 bits
	}
	if means, ok := f["means"]; ok {
		s.Means = means.Bool()
	}
	if flagged := s.Bit > 0 || s.Present != ""; flagged && KindOf(name) != Bool {
		n.Problem("`bit:` and `present:` say true or false, which %s is not", name)
	} else if _, said := f["means"]; flagged && !said {
		n.Problem("say what it means when it is there: `means: true` or `means: false`")
	}
	if s.Coding != "" && !slices.Contains(Codings, s.Coding) {
		f["coding"].Problem("%q is not a coding; expected one of %s", s.Coding, strings.Join(Codings, ", "))
	}
	return s
}

// Codings are the forms that bytes which are no text can be given.
var Codings = []string{"guid", "hex", "base64"}

func words(n document.Node) (out []string) {
	for _, item := range n.Items() {
		out = append(out, item.Text())
	}
	return out
}

// ValidName reports whether a custom attribute may be called so: an
// identifier, since charters refer to it as person.NAME.
func ValidName(name string) bool {
	for i, r := range name {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_'
		if !letter && (i == 0 || r < '0' || r > '9') {
			return false
		}
	}
	return name != ""
}

// Canonical lists the shape's canonical attributes, id first, then by name.
func (s Shape) Canonical() []string {
	names := make([]string, 0, len(s.Attributes)+1)
	for name := range s.Attributes {
		if name != "id" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return append([]string{"id"}, names...)
}

// Reader turns native values into canonical cells. It is not safe for
// concurrent use.
type Reader struct {
	names   []string
	sources []Source
	kinds   []Kind
	zone    *time.Location
	listed  map[string]bool // natives that feed a list too, so that none of their values is lost
}

// NewReader prepares the shape for the wanted canonical attributes (those the
// shape lacks read as absent).
func (s Shape) NewReader(names []string) *Reader {
	r := &Reader{names: names, zone: s.zone}
	for _, name := range names {
		r.sources = append(r.sources, s.Attributes[name])
		r.kinds = append(r.kinds, KindOf(name))
	}
	for name, src := range s.Attributes {
		if KindOf(name).Multi() {
			if r.listed == nil {
				r.listed = map[string]bool{}
			}
			r.listed[src.Native] = true
		}
	}
	return r
}

// others are the values of attribute i beside the first, where it should have one.
func (r *Reader) others(i int, values []string) (others []string) {
	src := &r.sources[i]
	if r.kinds[i].Multi() || i == 0 || r.listed[src.Native] || src.Bit > 0 || src.Present != "" || src.Prefix != "" || src.Refers != "" {
		return nil
	}
	met := []string{Normal(r.kinds[i], values[0])}
	for _, v := range values[1:] {
		if n := Normal(r.kinds[i], v); n != "" && !slices.Contains(met, n) {
			met, others = append(met, n), append(others, strings.TrimSpace(v))
		}
	}
	return others
}

// ValueError says which native attribute could not be understood.
type ValueError struct{ Native, Reason string }

func (e *ValueError) Error() string { return e.Native + ": " + e.Reason }

// Cell computes canonical attribute i from its native values.
func (r *Reader) Cell(i int, values []string) (string, error) {
	src, kind := &r.sources[i], r.kinds[i]
	if src.Prefix != "" {
		values = prefixed(src.Prefix, values)
	}
	if kind.Multi() {
		return r.list(src, values)
	}
	if src.Bit > 0 || src.Present != "" {
		return readFlag(src, values)
	}
	v := ""
	for n, value := range values {
		value = strings.TrimSpace(value)
		if err := checkText(src.Native, value); err != nil {
			return "", err
		}
		if n == 0 {
			v = value
		}
	}
	switch {
	case v == "":
		return "", nil
	case kind == Bool || len(src.True)+len(src.False) > 0:
		return readBool(src, v)
	case kind == Date || src.Date != "":
		return readDate(src, v, r.zone)
	case (kind == Exact || kind == Phone || r.names[i] == "employeeNumber") && shortened(v):
		return "", &ValueError{src.Native, fmt.Sprintf("%q is a long number that a spreadsheet has shortened; its last digits are lost: export the column as text", v)}
	}
	return v, nil
}

// shortened tells a number in scientific notation (4.18E+11) from one that is whole.
func shortened(v string) bool {
	digits, exponent, ok := strings.Cut(v, "E+")
	return ok && digits != "" && exponent != "" && strings.Trim(exponent, "0123456789") == "" && strings.Trim(digits, "0123456789.,") == "" && digits[0] >= '1'
}

func (r *Reader) list(src *Source, values []string) (string, error) {
	if src.Split != "" && len(values) == 1 {
		values = strings.Split(values[0], src.Split)
	}
	var kept []string
	for _, v := range values {
		v = strings.TrimSpace(v)
		if err := checkText(src.Native, v); err != nil {
			return "", err
		}
		if v != "" {
			kept = append(kept, v)
		}
	}
	return JoinList(kept), nil
}

func checkText(native, v string) error {
	if len(v) > budget.Cell.Int() {
		return &ValueError{native, budget.Cell.Over(int64(len(v)), fmt.Sprintf("a value of %d bytes", len(v))).Error()}
	}
	for i := 0; i < len(v); i++ {
		if c := v[i]; c < ' ' && c != '\t' && c != '\n' && c != '\r' || c == 0x7f {
			return &ValueError{native, fmt.Sprintf("holds the control character 0x%02X at byte %d", c, i+1)}
		}
	}
	return nil
}

var yes = []string{"true", "yes", "y", "1", "active", "enabled", "t"}
var no = []string{"false", "no", "n", "0", "inactive", "disabled", "f"}

func readBool(src *Source, v string) (string, error) {
	in := func(words []string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.EqualFold(strings.TrimSpace(w), v) })
	}
	if len(src.True)+len(src.False) > 0 {
		switch {
		case in(src.True):
			return "true", nil
		case in(src.False):
			return "false", nil
		case len(src.False) == 0:
			return "false", nil
		case len(src.True) == 0:
			return "true", nil
		}
		return "", &ValueError{src.Native, fmt.Sprintf("%q is neither among the words for true (%s) nor for false (%s)", v, strings.Join(src.True, ", "), strings.Join(src.False, ", "))}
	}
	switch {
	case in(yes):
		return "true", nil
	case in(no):
		return "false", nil
	}
	return "", &ValueError{src.Native, fmt.Sprintf("%q is not understood as true or false; name the words in the shape: {from: %s, true: [...], false: [...]}", v, src.Native)}
}

// spellings are header names commonly met for an attribute, in compact form,
// most telling first.
var spellings = map[string][]string{
	"id":             {"id", "entryuuid", "objectguid", "personid", "accountid", "userid", "objectid", "recordid", "identifier"},
	"externalId":     {"externalid", "foreignid"},
	"userName":       {"username", "login", "loginname", "account", "accountname", "signinname", "samaccountname", "uid", "benutzername", "benutzerkennung", "anmeldename", "kennung", "usuario", "nombredeusuario", "identifiant", "nomdutilisateur", "nazwaużytkownika", "loginid", "userlogin", "logon", "logonname"},
	"givenName":      {"givenname", "given", "firstname", "forename", "first", "namegivenname", "prenom", "prénom", "vorname", "nombre", "nombres", "nome", "imię", "imie", "vornamen", "rufname", "nombredepila", "primernombre", "prénoms", "forenames"},
	"middleName":     {"middlename", "middle"},
	"familyName":     {"familyname", "family", "lastname", "surname", "last", "sn", "namefamilyname", "nachname", "apellido", "apellidos", "nom", "cognome", "sobrenome", "nazwisko", "familienname", "zuname", "nomdefamille", "primerapellido"},
	"displayName":    {"displayname", "fullname", "name", "commonname", "nameformatted", "cn", "nombrecompleto", "vollername", "nomcomplet", "imięinazwisko", "apellidosynombre", "apellidosynombres", "nomyape", "nomprénom", "nometprénom", "nomprénoms", "nachnamevorname", "namevorname", "nazwiskoiimię", "employeename", "namelastfirst", "nombreyapellidos", "nombreyapellido", "mitarbeiter", "prénomnom", "prénometnom", "vornamename", "vorundnachname", "employee", "personname"},
	"email":          {"email", "mail", "emailaddress", "primaryemail", "emailsprimary", "workemail", "mailaddress", "correo", "correoelectrónico", "courriel", "emailadresse", "adresseemail", "adressemail", "adresemail", "correoe", "mailadresse", "correoelectronico", "emailpro", "emailprofessionnel", "adresseélectronique", "dienstlicheemail", "emaildienstlich", "adresmail", "businessemail", "email1", "officialemail", "companyemail"},
	"aliases":        {"aliases", "otheremails", "alternateemails", "emailaliases", "othermail", "othermails", "otheremail", "emailsother", "mailalternateaddress", "alias", "emailaliase", "aliasadressen", "autrescourriels", "otroscorreos", "inneadresy", "secondaryemails"},
	"personalEmail":  {"personalemail", "privateemail"},
	"phoneNumbers":   {"phonenumbers", "phone", "telephone", "telephonenumber", "mobile", "telefon", "telefonnummer", "teléfono", "telefono", "téléphone", "numertelefonu", "móvil", "mobiltelefon", "extension", "ext", "extensión", "durchwahl", "nebenstelle", "posteinterne", "tel", "telno", "teléfonos", "numerwewnętrzny", "phonenumber", "workphone", "officephone", "businessphone", "mobilephone", "cell", "handy", "portable", "komórka"},
	"employeeNumber": {"employeenumber", "staffno", "staffnumber", "employeeid", "staffid", "personnelnumber", "payrollnumber", "employeeno", "workernumber", "workerid", "personalnummer", "personalnr", "mitarbeiternummer", "mitarbeiternr", "matricule", "numérodematricule", "númerodeempleado", "numerodeempleado", "nºempleado", "nempleado", "legajo", "numerpracownika", "nrpracownika", "numerewidencyjny", "personnelno", "personnelnr", "personnelid", "persno", "persnr", "persid", "hrid", "hrnumber", "idempleado", "códigodeempleado", "codigodeempleado", "numéroemployé", "numéroagent", "noemployé", "noagent", "idpracownika", "empid", "empno", "empnumber", "emplid", "staffidnumber", "employeeidnumber", "idnumber", "pnr", "mitarbeiterid", "numeroempleado", "númeroempleado", "numéroemploye"},
	"userType":       {"usertype", "employment", "employmenttype", "employeetype", "kind", "beschäftigungsart", "vertragsart", "contrat", "typedecontrat", "tipodecontrato", "tipodeempleado", "rodzajumowy", "contracttype", "persontype", "workertype", "employeeclass"},
	"active":         {"active", "enabled", "status", "isactive", "actif", "activo", "aktiv", "aktywny", "estado", "estatus", "statut", "étatactif", "zustand", "beschäftigungsstatus", "employmentstatus", "situation", "situación", "employeestatus", "accountenabled", "accountstatus", "empleadoactivo", "enactivité", "czyaktywny"},
	"startsOn":       {"startson", "startdate", "hiredate", "firstday", "joiningdate", "entrydate", "validfrom", "eintritt", "fechadeingreso", "eintrittsdatum", "beschäftigtseit", "fechadealta", "fechaalta", "fechadeinicio", "datedentrée", "dateentrée", "dateembauche", "datedembauche", "datazatrudnienia", "datarozpoczęcia", "joined", "joinedon", "datejoined", "hired", "hiredon", "dateofhire", "started", "startedon", "eintrittam", "beginn", "vertragsbeginn", "entrée", "datedarrivée", "arrivée", "alta", "ingreso", "fechaingreso", "fechadecontratación", "zatrudniony", "zatrudnionyod", "początekumowy", "employedsince", "contractstart"},
	"endsOn":         {"endson", "enddate", "leavingdate", "lastday", "lastworkingday", "leavedate", "exitdate", "terminationdate", "contractend", "validuntil", "austritt", "fechadesalida", "lastdayofwork", "austrittsdatum", "fechadebaja", "fechabaja", "fechadefin", "datedesortie", "datesortie", "datedefin", "datazwolnienia", "datazakończenia", "left", "lefton", "dateleft", "austrittam", "ende", "vertragsende", "befristetbis", "sortie", "fincontrat", "findecontrat", "datedefindecontrat", "baja", "fechafin", "fechafindecontrato", "findecontrato", "koniecumowy", "zwolnionyod", "dataodejścia", "terminated", "termdate", "separationdate", "expires", "expirydate", "expirationdate"},
	"title":          {"title", "jobtitle", "position", "cargo", "puesto", "fonction", "poste", "funktion", "stelle", "stanowisko", "job", "roletitle", "berufsbezeichnung", "tätigkeit", "emploi", "métier", "puestodetrabajo", "intitulédeposte", "stanowiskopracy"},
	"department":     {"department", "dept", "enterprisedepartment", "departmentnumber", "team", "departamento", "abteilung", "dział", "departament", "unit", "orgunit", "organisationseinheit", "bereich", "fachbereich", "service", "département", "direction", "unidad", "área", "area", "sección", "komórkaorganizacyjna", "section", "depto", "dpto"},
	"location":       {"location", "site", "l", "office", "sede", "standort", "sitio", "centrodetrabajo", "siège", "lokalizacja", "miejscepracy", "campus", "building", "gebäude", "standortname", "lieu", "lieudetravail", "ubicación", "ciudad", "city", "ort", "miasto", "ville", "workplace", "worklocation"},
	"manager":        {"manager", "managerid", "enterprisemanager", "vorgesetzter", "vorgesetzte", "vorgesetzternr", "responsable", "superviseur", "jefe", "jefedirecto", "supervisor", "supervisorid", "przełożony", "reportsto", "linemanager", "managerno", "managernumber"},
	"groups":         {"groups", "memberof"},
	"roles":          {"roles", "role"},
	"division":       {"division", "geschäftsbereich", "sparte", "división", "pion"},
	"organization":   {"organization", "organisation", "company", "firma", "empresa", "société"},
	"costCenter":     {"costcenter", "costcentre", "kostenstelle", "centrodecoste", "centredecoût", "mpk"},
	"country":        {"country", "land", "país", "pays", "kraj"},
	"lastSignIn":     {"lastsignin", "lastlogin"},
	"created":        {"created", "createdat", "creationdate", "createtimestamp"},
}

// Guess proposes a shape for native names: canonical names and common
// spellings are recognised, every other usable name becomes a custom
// attribute. Secrets are left out.
func Guess(natives []string) Shape {
	shape := Shape{Attributes: map[string]Source{}, Stable: true}
	taken := map[string]bool{}
	claim := func(name, native string) {
		src := Source{Native: native}
		if KindOf(name).Multi() {
			src.Split = ";"
		}
		shape.Attributes[name], taken[native] = src, true
	}
	usable := func(n string) bool { return n != "" && !taken[n] && !IsSecret(n) }
	for _, attr := range catalogue {
		if i := slices.IndexFunc(natives, func(n string) bool { return usable(n) && strings.EqualFold(n, attr.Name) }); i >= 0 {
			claim(attr.Name, natives[i])
		}
	}
	for _, attr := range catalogue {
		for _, spelling := range spellings[attr.Name] {
			if _, done := shape.Attributes[attr.Name]; done {
				break
			}
			if i := slices.IndexFunc(natives, func(n string) bool { return usable(n) && compact(n) == spelling }); i >= 0 {
				claim(attr.Name, natives[i])
			}
		}
	}
	// a column may feed the id beside what else it is
	for _, from := range []string{"userName", "employeeNumber"} {
		if src, ok := shape.Attributes[from]; ok && shape.Attributes["id"].Native == "" && (from != "userName" || compact(src.Native) == "uid") {
			shape.Attributes["id"] = Source{Native: src.Native}
		}
	}
	if slices.Contains(natives, "dn") { // a directory: others are named by their DN, and stand below one
		if src, ok := shape.Attributes["manager"]; ok {
			src.Refers = "dn"
			shape.Attributes["manager"] = src
		}
		if slices.Contains(natives, "parent") {
			claim("container", "parent")
		}
	}
	for _, n := range natives {
		if _, canonical := Canonical(n); !canonical && usable(n) && ValidName(n) {
			claim(n, n)
		}
	}
	for _, n := range natives {
		if usable(n) {
			claim(shape.newName(n), n)
		}
	}
	return shape
}

// newName makes an attribute's name of a heading that can't be one as it stands:
// "Extensión" becomes extension, "Nr. 2" nr2.
func (s Shape) newName(native string) string {
	name := ""
	for _, word := range strings.FieldsFunc(Fold(native), func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') }) {
		if name != "" {
			word = strings.ToUpper(word[:1]) + word[1:]
		}
		name += word
	}
	if !ValidName(name) {
		name = "column" + name
	}
	free := name
	for n := 2; ; n++ {
		_, canonical := Canonical(free)
		if _, taken := s.Attributes[free]; !taken && !canonical {
			return free
		}
		free = fmt.Sprint(name, "_", n)
	}
}

// Pick lets a native attribute feed another canonical one, or none when the
// name is "". What else the native one fed, but for the id, it feeds no more.
func (s Shape) Pick(native, attribute string) Shape {
	attributes := maps.Clone(s.Attributes)
	for name, src := range attributes {
		if src.Native == native && name != "id" && name != attribute {
			delete(attributes, name)
		}
	}
	if attribute != "" && attributes[attribute].Native != native {
		src := Source{Native: native}
		if KindOf(attribute).Multi() {
			src.Split = ";"
		}
		attributes[attribute] = src
	}
	s.Attributes = attributes
	return s
}

// Custom lists the shape's attributes that are not canonical, sorted.
func (s Shape) Custom() (names []string) {
	for _, n := range s.Canonical() {
		if _, ok := Canonical(n); !ok {
			names = append(names, n)
		}
	}
	return names
}

// Uses reports whether a native attribute feeds any canonical one.
func (s Shape) Uses(native string) bool {
	for _, src := range s.Attributes {
		if src.Native == native {
			return true
		}
	}
	return false
}

// Row computes the canonical cells of one native record for the reader's
// attributes; the error is a *ValueError.
func (r *Reader) Row(native map[string][]string, into []string) error {
	for i, src := range r.sources {
		cell, err := r.Cell(i, native[src.Native])
		if err != nil {
			return err
		}
		into[i] = cell
	}
	return nil
}
