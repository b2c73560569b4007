package record

import d "twinning/internal/core/document"

var key = d.NewKey

// ShapeKeys are all keys of a shape.
var ShapeKeys = d.Keys{
	key("shape", d.FormMapping, "which native attribute or column feeds which canonical attribute", "{id: staff_no, email: mail}"),
	key("shape.*", d.FormAny, "one attribute: the native name, or a mapping that says more; names of your own are allowed", "{from: other_mail, split: \";\"}"),
	key("shape.*.from", d.FormText, "the native attribute or column", "mail"),
	key("shape.*.split", d.FormText, "what stands between the values of a list inside one native value", "\";\""),
	key("shape.*.true", d.FormTexts, "native words that mean true", "[A, active]"),
	key("shape.*.false", d.FormTexts, "native words that mean false", "[L, left]"),
	key("shape.*.date", d.FormText, "how a day is written: DD.MM.YYYY and the like, words (1 March 2019), serial (the day numbers of spreadsheets), days, seconds or milliseconds since 1970, generalized, filetime (default ISO 8601)", "DD.MM.YYYY"),
	key("shape.*.bit", d.FormNumber, "a flag inside a native number, a power of two", "2"),
	key("shape.*.means", d.FormYesNo, "what it means when the flag is set, or the value is present", "false"),
	key("shape.*.present", d.FormText, "any native value at all says what `means:` says; this one is written", "000001010000Z"),
	key("shape.*.prefix", d.FormText, "only values that begin so, without it", "\"tel:\""),
	key("shape.*.coding", d.FormWord, "the form that bytes which are no text are given", "guid", Codings...),
	key("shape.*.refers", d.FormText, "the value names another record by this native attribute of it", "dn"),
	key("stable", d.FormYesNo, "the id survives renames (default true)", "true"),
	key("mark", d.FormText, "the canonical attribute that carries our mark, if any", "externalId"),
	key("unnamed", d.FormWord, "what a row without login, address and name is: a record that can't be read, or none (a total, a remark)", "leave-out", "reject", "leave-out"),
	key("classes", d.FormTexts, "object classes of a new directory entry", "[inetOrgPerson]"),
	key("upload", d.FormMapping, "the file that the system's own upload takes", "{columns: [Login, Mail], delimiter: \";\"}"),
	key("upload.columns", d.FormList, "its columns in order: native attributes, or a mapping", "[Login, {name: Action, create: ADD, change: MOD, delete: DEL}]"),
	key("upload.columns[]", d.FormAny, "one column", "{name: Action, create: ADD, change: MOD, delete: DEL}"),
	key("upload.columns[].name", d.FormText, "its heading", "Action"),
	key("upload.columns[].from", d.FormText, "the native attribute in it (default its heading)", "mail"),
	key("upload.columns[].fixed", d.FormText, "the same in every row", "larkspur"),
	key("upload.columns[].create", d.FormText, "what stands there in the row of a new account", "ADD"),
	key("upload.columns[].change", d.FormText, "of a changed one", "MOD"),
	key("upload.columns[].delete", d.FormText, "of one that is to go", "DEL"),
	key("upload.first-lines", d.FormTexts, "lines before the header", "[\"#accounts v2\"]"),
	key("upload.header", d.FormYesNo, "whether the headings stand above (default true)", "false"),
	key("upload.delimiter", d.FormWord, "between the columns", "\";\"", ",", ";", "|", "tab"),
	key("upload.quoting", d.FormWord, "which cells stand in quotes", "all", "needed", "all", "none"),
	key("upload.encoding", d.FormWord, "how it is encoded", "windows-1252", "utf-8", "utf-8-bom", "utf-16", "latin-1", "windows-1252"),
	key("upload.line-end", d.FormWord, "how a line ends", "lf", "crlf", "lf"),
	key("upload.clear", d.FormText, "what empties a value (default an empty cell)", "<none>"),
	key("upload.separator", d.FormText, "between the values of a list in one cell (default ;)", "\",\""),
	key("upload.rows", d.FormNumber, "records per file (default 0: all in one)", "500"),
}
