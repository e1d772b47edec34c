// What the faces say. A text is written in English where it is said; a catalogue has the same in another language.

/** Texts in one language by their English, with the same names in braces. */
export type Catalogue = { readonly [english: string]: string }

let catalogue: Catalogue = {}
let spoken: string | undefined // the browser's own, while nothing was chosen

/** Says everything in a language from now on. Without a catalogue, the texts stay English, and dates and numbers follow. */
export function speak(language: string | undefined, texts: Catalogue = {}) {
  spoken = language
  catalogue = texts
}

/** The language of dates and numbers, as Intl takes it. */
export const locale = () => spoken

/** Says a text. Names in braces stand for values. */
export function t(english: string, values: Record<string, string | number> = {}): string {
  return filled(catalogue[english] ?? english, values)
}

/**
 * Says a text about a number, which {n} stands for. Its forms stand side by side with a bar between them, in the order of the
 * language's plural categories (Unicode CLDR): in English, one and other.
 */
export function tn(n: number, english: string, values: Record<string, string | number> = {}): string {
  const known = catalogue[english]
  const rules = new Intl.PluralRules(known === undefined ? 'en' : locale())
  const forms = (known ?? english).split('|')
  const at = rules
    .resolvedOptions()
    .pluralCategories.filter((one) => one !== 'other')
    .indexOf(rules.select(n) as 'one')
  return filled(forms[at < 0 ? forms.length - 1 : Math.min(at, forms.length - 1)]!, {
    n: n.toLocaleString(locale()),
    ...values,
  })
}

function filled(text: string, values: Record<string, string | number>): string {
  return text.replace(/\{(\w+)\}/g, (whole, name: string) => {
    const value = values[name]
    return value === undefined ? whole : typeof value === 'number' ? value.toLocaleString(locale()) : value
  })
}
