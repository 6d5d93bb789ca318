import { held } from './app.mjs';

export const title = 'an editor merges into production by its address';

export async function attack(app) {
  const jonas = await app.as('jonas');
  const before = await app.main();
  const answer = await jonas.send('POST', '/api/workspaces/production/take-production', {
    files: { 'staging/port.sql': 'select 1 as hacked' },
  });
  held((await app.main()) === before, `main moved; the answer was ${answer.status}`);
  held(answer.status >= 400 && answer.status < 500, `the answer was ${answer.status}`);
  const unknown = await jonas.send('POST', '/api/workspaces/no-such-workspace/take-production', {});
  held(unknown.status === 404, `an unknown workspace answers ${unknown.status}`);
  for (const [method, where, body] of [
    ['PUT', 'drafts', { path: 'staging/port.sql', text: 'x', version: 0 }],
    ['POST', 'commits', { message: 'x' }],
    ['POST', 'drafts/rebase', { path: 'staging/port.sql' }],
    ['DELETE', 'drafts?path=staging/port.sql', undefined],
  ]) {
    const { status } = await jonas.send(method, `/api/workspaces/production/${where}`, body);
    held(status >= 400 && status < 500, `${method} ${where} of production answers ${status}`);
  }
}
