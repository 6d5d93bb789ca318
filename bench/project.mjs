import { readProject, changeFiles } from '@ouvrage/core/resolve';
import { loadParser, parseSql } from '@ouvrage/core/sql';
import { generated } from './lib/generated.mjs';

/**
 * Reading a project, as a ratio to parsing its files alone, and one edit in milliseconds.
 * `npm run bench`. Medians of alternating repetitions, fifteen or more in four seconds or more, after two seconds that warm up. The
 * ratio is the median of those within each repetition: the machine's speed changes from one second to the next.
 */
await loadParser();

const WARM_UP = 2000;
const MEASURED = 4000;
const REPETITIONS = 15;
const median = (times) => {
  const measured = [...times].sort((a, b) => a - b);
  return measured[Math.floor(measured.length / 2)];
};
const timed = (work) => {
  const started = performance.now();
  work();
  return performance.now() - started;
};

console.log('definitions  parsing alone  cold read  ratio  one edit');
for (const count of [100, 1000, 5000]) {
  const files = generated(count);
  const [parsing, reading, editing] = [[], [], []];
  const sql = [...files].filter(([path]) => path.endsWith('.sql'));
  let kept;
  const started = performance.now();
  let warm = false;
  while (!warm || reading.length < REPETITIONS || performance.now() - started < WARM_UP + MEASURED) {
    if (!warm && performance.now() - started > WARM_UP) {
      warm = true;
      for (const times of [parsing, reading, editing]) times.length = 0;
    }
    // The trees are kept, as every reader of a project has to.
    parsing.push(timed(() => (kept = sql.map(([, text]) => parseSql(text)))));
    if (kept.length !== sql.length) throw new Error('a file was not parsed');
    kept = undefined;
    let project;
    reading.push(timed(() => (project = readProject(files))));
    if (project.diagnostics.length) throw new Error(project.diagnostics[0].message);
    const path = 'staging/t3.sql';
    let text = files.get(path);
    for (let edit = 0; edit < 3; edit++) {
      text = text.replace('end as amount', 'end  as amount');
      editing.push(timed(() => (project = changeFiles(project, new Map([[path, text]])))));
    }
  }
  console.log(
    `${String(count).padStart(11)}  ${median(parsing).toFixed(0).padStart(10)} ms  ${median(reading).toFixed(0).padStart(6)} ms  ${median(
      reading.map((time, i) => time / parsing[i]),
    )
      .toFixed(2)
      .padStart(5)}  ${median(editing).toFixed(1).padStart(5)} ms`,
  );
}
