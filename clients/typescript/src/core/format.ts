// Patterns and formats, as central judges them: its regular expressions are RE2's, and the formats of addresses on the web
// take letters of all scripts.
import { RE2JS } from "@bufbuild/re2";
import { format } from "@cfworker/json-schema";
import type { Value } from "./json.ts";
import { blank, isObject } from "./state.ts";

/** Stands before a pattern where it takes the place of a format, which the schema's library lets one name. */
const marker = "pattern ";

/** Makes a pattern one that RE2 looks at, and gives it the name of a format. */
function asFormat(pattern: string): string {
  const name = `${marker}${pattern}`;
  const compiled = RE2JS.compile(pattern);
  format[name] ??= (text) => compiled.test(text);
  return name;
}

/** A schema in which patterns are formats. */
export function withPatterns(schema: Value): Value {
  if (Array.isArray(schema)) {
    return schema.map(withPatterns);
  }
  if (!isObject(schema)) {
    return schema;
  }
  const all = blank<Value>();
  for (const [key, value] of Object.entries(schema)) {
    if (["const", "enum", "default", "examples"].includes(key)) {
      all[key] = value; // values, and no schemas
    } else if (key === "properties" && isObject(value)) {
      const properties = blank<Value>();
      for (const [name, one] of Object.entries(value)) {
        properties[name] = withPatterns(one);
      }
      all[key] = properties;
    } else {
      all[key] = withPatterns(value);
    }
  }
  if (typeof schema.pattern === "string") {
    delete all.pattern;
    const more = Array.isArray(all.allOf) ? all.allOf : [];
    all.allOf = [...more, { format: asFormat(schema.pattern) }];
  }
  return all;
}

/** An address on the web, as RFC 3986 has it, with letters of all scripts. */
function isAddress(text: string): boolean {
  // oxlint-disable-next-line no-control-regex -- which are what is not allowed
  if (/[\u0000-\u001f\u007f]/.test(text) || /%(?![0-9a-fA-F]{2})/.test(text.split(/[?#]/, 1)[0] ?? "")) {
    return false;
  }
  const authority = /^(?:[a-z][a-z0-9+.-]*:)?\/\/([^/?#]*)/i.exec(text)?.[1] ?? "";
  const host = authority.replace(/^.*@/, "");
  const bracketed = /^\[[0-9a-f:.]+\](:\d*)?$/i.test(host);
  return bracketed || /^[^\s<>"{}|\\^`[\]:]*(:\d*)?$/.test(host);
}

const dateTime = format["date-time"] as (text: string) => boolean;
const email = format.email as (text: string) => boolean;
const scheme = /^[a-z][a-z0-9+.-]*:/i;
Object.assign(format, {
  "date-time": (text: string) => /^.{10}[Tt]/.test(text) && dateTime(text),
  email: (text: string) => email(text.replace(/^@/, "x@")), // as central does, it may have no name
  ipv4: (text: string) => /^((25[0-5]|2[0-4]\d|1\d\d|[1-9]?\d)(\.(?!$)|$)){4}$/.test(text),
  uri: (text: string) => scheme.test(text) && isAddress(text),
  "uri-reference": (text: string) => !text.includes("\\") && isAddress(text),
} satisfies { [name: string]: (text: string) => boolean });
