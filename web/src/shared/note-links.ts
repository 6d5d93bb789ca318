import { noteLinks } from '@ouvrage/core/index';

/** A note with its links to what is in the project as links of Markdown; what leads nowhere stays as it is. */
export function linked(text: string, addressOf: (name: string) => string | undefined): string {
  let made = '';
  let at = 0;
  for (const { name, start, end } of noteLinks(text)) {
    const address = addressOf(name);
    if (address === undefined) continue;
    made += `${text.slice(at, start - 1)}[${name}](${address})`;
    at = end + 1;
  }
  return made + text.slice(at);
}
