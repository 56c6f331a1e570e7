// The definitions of docs/glossary.md, by term.
import text from '../../docs/glossary.md?raw'

export const glossary = new Map(
  [...text.matchAll(/^\| (.+?) \| (.+?) \|$/gm)].map((row) => [row[1] ?? '', row[2] ?? ''] as const),
)
