import { expect, type Page } from '@playwright/test';

/** Signs in as a person of the demo. */
export async function signIn(page: Page, name: string, password = 'saltmere'): Promise<void> {
  await page.goto('/');
  await page.getByLabel('Name').fill(name);
  await page.getByLabel('Password').fill(password);
  await page.getByRole('button', { name: 'Sign in' }).click();
  await expect(page.getByRole('navigation', { name: 'Places' })).toBeVisible();
}

/** A workspace of its own for one journey. @returns its slug */
export async function openWorkspace(page: Page, name: string): Promise<string> {
  await page.getByRole('button', { name: /^Workspace:/ }).click();
  await page.getByRole('menuitem', { name: 'Open a workspace …' }).click();
  await page.getByLabel('What is it for?').fill(name);
  await page.getByRole('button', { name: 'Open', exact: true }).click();
  await expect(page.getByRole('dialog')).toHaveCount(0);
  const begins = new RegExp(`/w/(${name.toLowerCase().replaceAll(' ', '-')}(?:-\\d+)?)/`);
  await expect(page).toHaveURL(begins);
  return begins.exec(page.url())![1]!;
}

/** Replaces the whole text of the editor. */
export async function write(page: Page, text: string): Promise<void> {
  const editor = page.locator('.cm-content').first();
  await editor.click();
  await page.keyboard.press('Control+a');
  await page.keyboard.insertText(text);
}

/** The text of the editor, whole. */
export async function editorText(page: Page, slug: string, path: string): Promise<string> {
  return page.evaluate(
    async ([s, p]) =>
      ((await (await fetch(`/api/workspaces/${s}/files`)).json()) as { files: Record<string, string> }).files[p!]!,
    [slug, path] as const,
  );
}
/** Messages of the console that no journey may cause. */
export function watchConsole(page: Page): string[] {
  const messages: string[] = [];
  page.on('console', (m) => {
    // The browser itself reports answers such as 401 and 409, which the interface shows in words.
    if (m.type() === 'error' && !/status of (401|403|404|409|422|429)/.test(m.text())) messages.push(m.text());
  });
  page.on('pageerror', (e) => messages.push(e.message));
  return messages;
}

/** Sends a request as the person who is signed in. @returns the answer's body */
export async function send<T>(page: Page, method: 'POST' | 'PUT', path: string, body: object): Promise<T> {
  return page.evaluate(
    async ({ method, path, body }) => {
      const { csrf } = (await (await fetch('/api/session')).json()) as { csrf: string };
      const answer = await fetch(`/api/${path}`, {
        method,
        headers: { 'content-type': 'application/json', 'x-csrf-token': csrf },
        body: JSON.stringify(body),
      });
      if (!answer.ok) throw new Error(`${path}: ${await answer.text()}`);
      const text = await answer.text();
      return (text ? JSON.parse(text) : undefined) as T;
    },
    { method, path, body },
  );
}
