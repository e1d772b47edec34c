// Nested fields, taken apart into what is merged by itself. Paths are JSON Pointers (RFC 6901) without the first slash.
import { byBytes, parse, write } from "./json.ts";
import { blank, isObject, writeFields, type Fields, type Raw } from "./state.ts";

const escape = (name: string) => name.replaceAll("~", "~0").replaceAll("/", "~1");
const unescape = (name: string) => name.replaceAll("~1", "/").replaceAll("~0", "~");

function members(value: Raw | undefined): Fields | undefined {
  if (value === undefined || value[0] !== "{") {
    return undefined;
  }
  const read = parse(value);
  const all: Fields = blank();
  for (const [name, member] of Object.entries(isObject(read) ? read : {})) {
    all[name] = write(member);
  }
  return all;
}

/** The parts of an object by path, down to what is no object itself; nothing for anything but an object. */
export function partsOf(value: Raw | undefined): Fields | undefined {
  const inside = members(value);
  if (!inside) {
    return undefined;
  }
  const parts: Fields = blank();
  for (const [name, member] of Object.entries(inside)) {
    const path = escape(name);
    const inner = partsOf(member);
    if (!inner || Object.keys(inner).length === 0) {
      parts[path] = member;
      continue;
    }
    for (const [below, part] of Object.entries(inner)) {
      parts[`${path}/${below}`] = part;
    }
  }
  return parts;
}

/** The canonical object that has the given parts. */
export function join(parts: Fields): Raw {
  const fields: Fields = blank();
  const below = blank<Fields>();
  for (const [path, part] of Object.entries(parts)) {
    const at = path.indexOf("/");
    if (at < 0) {
      fields[unescape(path)] = part;
      continue;
    }
    const name = unescape(path.slice(0, at));
    (below[name] ??= blank())[path.slice(at + 1)] = part;
  }
  for (const [name, inner] of Object.entries(below)) {
    fields[name] = join(inner);
  }
  return writeFields(fields);
}

/** The value at a path: a field, or a part of a nested one. */
export function valueAt(fields: Fields, path: string): Raw | undefined {
  const [name = "", ...rest] = path.split("/");
  let value = fields[name];
  for (const part of rest) {
    value = value === undefined ? undefined : members(value)?.[unescape(part)];
  }
  return value;
}

/** The paths of both, in order. */
export function partNames(a: Fields, b: Fields): string[] {
  return [...new Set([...Object.keys(a), ...Object.keys(b)])].sort(byBytes);
}
