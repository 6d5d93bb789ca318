import { readdirSync, readFileSync, statSync } from 'node:fs';
import path from 'node:path';
import { Ended, EXIT } from './ended.js';

/** What a project consists of; anything else in its folder is left alone. */
const IS_FILE = /\.(sql|csv|md)$/;
const IS_LEFT_OUT = /^(\.|node_modules$)/;

/**
 * The files of a project's folder, by their paths in it.
 * @throws Ended where there is no such folder, or nothing of a project in it
 */
export function filesIn(folder: string): Map<string, string> {
  if (!statSync(folder, { throwIfNoEntry: false })?.isDirectory())
    throw new Ended(EXIT.wrongUse, `There is no folder ${folder}`);
  const files = new Map<string, string>();
  const read = (at: string): void => {
    for (const entry of readdirSync(path.join(folder, at), { withFileTypes: true })) {
      if (IS_LEFT_OUT.test(entry.name)) continue;
      const place = at === '' ? entry.name : `${at}/${entry.name}`;
      if (entry.isDirectory()) read(place);
      else if (entry.isFile() && IS_FILE.test(entry.name))
        files.set(place, readFileSync(path.join(folder, place), 'utf8'));
    }
  };
  read('');
  if (![...files.keys()].some((p) => p.endsWith('.sql')))
    throw new Ended(EXIT.wrongUse, `${folder} holds no project`, 'A project is a folder of .sql and .csv files.');
  return files;
}
