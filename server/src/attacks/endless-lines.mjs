import { held } from './app.mjs';
import { createWriteStream } from 'node:fs';
import { mkdirSync, renameSync } from 'node:fs';
import path from 'node:path';
import { once } from 'node:events';

export const title = 'a file with a line of 600 MB, and one with an unclosed quote';

async function write(app, name, pieces) {
  mkdirSync(app.drop, { recursive: true });
  const part = path.join(app.drop, `.${name}.part`);
  const out = createWriteStream(part);
  for (const piece of pieces) if (!out.write(piece)) await once(out, 'drain');
  out.end();
  await once(out, 'finish');
  renameSync(part, path.join(app.drop, name));
}

const pattern = (files, format) => {
  for (const text of Object.values(files)) {
    const found = new RegExp(`pattern '([^']*\\.${format})'`).exec(text)?.[1];
    if (found)
      return found
        .replace(/\{[a-z_]+:date\}/g, '2031-01-01')
        .replace(/\{[a-z_]+(:integer)?\}/g, '7')
        .replaceAll('*', 'x');
  }
  throw new Error(`the demo has no file in ${format}`);
};

export async function attack(app) {
  const { files } = (await (await app.as('mira')).get('/api/workspaces/production/files')).body;
  const sources = Object.fromEntries(Object.entries(files).filter(([p]) => p.startsWith('sources/')));
  const megabyte = 'x'.repeat(1_000_000);
  await app.watched(async () => {
    const json = pattern(sources, 'jsonl');
    await write(app, json, ['{"a":"', ...Array.from({ length: 600 }, () => megabyte), '"}\n']);
    const first = await app.delivered(json, 60);
    held(first?.state === 'failed' && first.reason, `the long line is ${first?.state ?? 'not dealt with'}`);
    const csv = pattern(sources, 'csv');
    await write(app, csv, ['berth_code,rate\n"', ...Array.from({ length: 60 }, () => 'a,b\n'.repeat(250_000))]);
    const second = await app.delivered(csv, 60);
    held(second?.state === 'failed' && second.reason, `the unclosed quote is ${second?.state ?? 'not dealt with'}`);
  });
}
