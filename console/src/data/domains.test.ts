import { expect, test } from "vitest";
import { disguisedDomains } from "./domains";

test.each<[string, string[]]>([
  ["ana.soto@larkspur.example", []],
  ["ana.soto@l\u0430rkspur.example", ["xn--lrkspur-2fg.example"]], // a Cyrillic а within Latin
  ["ana@\u0430\u0440\u0440\u04cf\u0435.example", ["xn--80ak6aa92e.example"]], // all Cyrillic, below a Latin name
  ["jörg@münchen.example", []],
  ["ana@пример.рф", []],
  ["hana@日本の天文台.東京", []],
  ["two: a@l\u0430.example; b@larkspur.example", ["xn--l-8sb.example"]],
  ["L\u0430rkspur, without an address", []],
  ["", []],
])("the domains of %j that may look like another", (text, want) => expect(disguisedDomains(text)).toEqual(want));
