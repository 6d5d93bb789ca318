import { chromium } from '@playwright/test';
import { spawnSync } from 'node:child_process';
import path from 'node:path';
import { CHROMIUM } from '../scripts/lib/browser.mjs';
import { generated } from './lib/generated.mjs';

/**
 * Lineage of a generated project in the running application: its first paint, and frames while it is dragged for five
 * seconds, folded as it opens and with all groups open.
 * `node bench/lineage.mjs ADDRESS DATA [TABLES]`: the application's address and its data folder; the project becomes a
 * workspace of it.
 */
const [address, data, count = '1000'] = process.argv.slice(2);
if (!address || !data) throw new Error('say the address and the data folder of a running application');
const SECONDS = 5;
const median = (list) => [...list].sort((a, b) => a - b)[Math.floor(list.length / 2)];

const browser = await chromium.launch(CHROMIUM);
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
await page.goto(address);
await page.getByLabel('Name').fill('mira');
await page.getByLabel('Password').fill('saltmere');
await page.getByRole('button', { name: 'Sign in' }).click();
await page.getByRole('link', { name: 'Today' }).waitFor();
const slug = await workspace();
commitInto(slug, generated(Number(count)));

await page.goto(`${address}/w/${slug}/tables`);
await page
  .getByRole('navigation', { name: 'Places' })
  .waitFor({ timeout: 60_000 })
  .catch(() => undefined);
await page.waitForTimeout(4000);
const began = Date.now();
await page.getByRole('link', { name: 'Lineage' }).click();
await page.locator('.react-flow__node-table').first().waitFor();
console.log(`${count} tables: first paint after ${Date.now() - began} ms`);
await dragged('folded');
const groups = await page.evaluate(() =>
  [...document.querySelectorAll('.react-flow__node-table')].map((n) => n.dataset.id),
);
const open = groups.filter((g) => g.includes('/')).map((g) => g.replace('/*', '/'));
const reopened = Date.now();
await page.goto(
  `${address}/w/${slug}/lineage?open=${encodeURIComponent([...open, 'staging/', 'core/', 'mart/'].join(','))}`,
);
await page.locator('.react-flow__node-table').first().waitFor({ timeout: 60_000 });
console.log(`all groups open: painted ${Date.now() - reopened} ms after the address was opened`);
await dragged('all open');
await browser.close();

/** Drags the drawing to and fro; prints intervals between frames, and the longest task. */
async function dragged(what) {
  await page.waitForTimeout(1500);
  await page.evaluate(() => {
    window.frames_ = [];
    window.longest_ = 0;
    let last = performance.now();
    const frame = (now) => {
      window.frames_.push(now - last);
      last = now;
      window.raf_ = requestAnimationFrame(frame);
    };
    window.raf_ = requestAnimationFrame(frame);
    window.observer_ = new PerformanceObserver((list) => {
      for (const entry of list.getEntries()) window.longest_ = Math.max(window.longest_, entry.duration);
    });
    window.observer_.observe({ entryTypes: ['longtask'] });
  });
  await page.mouse.move(900, 300);
  await page.mouse.down();
  const end = Date.now() + SECONDS * 1000;
  for (let i = 0; Date.now() < end; i++) {
    await page.mouse.move(640 + 400 * Math.cos(i / 15), 400 + 200 * Math.sin(i / 15));
    await page.waitForTimeout(16);
  }
  await page.mouse.up();
  const { frames, longest } = await page.evaluate(() => {
    cancelAnimationFrame(window.raf_);
    window.observer_.disconnect();
    return { frames: window.frames_, longest: window.longest_ };
  });
  const boxes = await page.locator('.react-flow__node').count();
  console.log(
    `${what}: ${boxes} boxes in the page, ${frames.length} frames, median interval ${median(frames).toFixed(1)} ms, longest task ${longest.toFixed(0)} ms (0: none over 50)`,
  );
}

/** A workspace of its own, made as a person makes it. */
function workspace() {
  return page.evaluate(
    async (name) => {
      const { csrf } = await (await fetch('/api/session')).json();
      const answer = await fetch('/api/workspaces', {
        method: 'POST',
        headers: { 'content-type': 'application/json', 'x-csrf-token': csrf },
        body: JSON.stringify({ name }),
      });
      return (await answer.json()).slug;
    },
    `Lineage ${Date.now() % 1e6}`,
  );
}

/** The branch of the workspace holds these files, and nothing else. */
function commitInto(slug, files) {
  const bytes = (text) => Buffer.byteLength(text);
  const lines = [
    `commit refs/heads/workspace/${slug}\ncommitter Bench <bench@ouvrage.invalid> ${Math.floor(Date.now() / 1000)} +0000\ndata 9\nGenerated\ndeleteall\n`,
    ...[...files].map(([file, text]) => `M 100644 inline ${file}\ndata ${bytes(text)}\n${text}\n`),
  ];
  const { status, stderr } = spawnSync(
    'git',
    ['-C', path.join(data, 'project.git'), 'fast-import', '--force', '--quiet'],
    {
      input: lines.join(''),
      encoding: 'utf8',
    },
  );
  if (status !== 0) throw new Error(stderr);
}
