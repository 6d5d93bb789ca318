import { held } from './app.mjs';

export const title = 'previews of huge values end the server';

export async function attack(app) {
  const vera = await app.as('vera');
  const texts = [
    "select repeat('x', 600000000) as a",
    "select string_agg(repeat('x', 1000000), '') as a from generate_series(1, 300)",
    "select repeat('x', 2000000) as a, n from generate_series(1, 1000) as s (n)",
    "select array_agg(repeat('x', 100000)) as a from generate_series(1, 1000)",
    "select decode(repeat('ab', 100000000), 'hex') as a",
  ];
  await app.watched(async () => {
    for (const text of texts) {
      const { status, text: answer } = await vera.send(
        'POST',
        '/api/workspaces/production/preview',
        { path: 'adhoc/a.sql', text, limit: 1000 },
        { timeout: 120_000 },
      );
      held(status < 500 || status === 504, `${text.slice(0, 40)} answers ${status}`);
      held(answer.length < 9_500_000, `${text.slice(0, 40)} answers ${answer.length} characters`);
    }
  });
}
