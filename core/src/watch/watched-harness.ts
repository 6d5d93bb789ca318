import { shareError } from './measures.js';
import { judgeTable, type Series, type TableJudged } from './judge.js';
import { scaleOf, simulated, type Simulation } from './simulator-harness.js';

interface Memory {
  past: { day: number; value: number }[];
  outside: { day: number; value: number }[];
}

/** What a watch says of each day of a simulated table, learning as it goes. @param from only days from this value on are told */
export function* watched(simulation: Simulation, from = 30): Generator<{ day: number; judged: TableJudged }> {
  const memories = new Map<string, Memory>();
  let values = 0;
  for (const { day, measures } of simulated(simulation)) {
    values++;
    const series = [...measures].map(([name, value]): Series => {
      const { past, outside } = memories.get(name) ?? { past: [], outside: [] };
      const scale = scaleOf(name);
      const error =
        scale === 'share' ? { error: shareError(value, { rows: measures.get('rows')!, isSampled: false }) } : {};
      return { name, scale, past, outside, now: { day, value }, ...error };
    });
    const judged = judgeTable(series);
    for (const [i, s] of series.entries()) remember(memories, s, judged.series[i]!.verdict);
    if (values >= from) yield { day, judged };
  }
}

function remember(memories: Map<string, Memory>, s: Series, verdict: string): void {
  const memory = memories.get(s.name) ?? { past: [], outside: [] };
  memories.set(s.name, memory);
  if (verdict === 'agreed') {
    memory.past = [...memory.outside.slice(-2), s.now];
    memory.outside = [];
  } else if (verdict === 'outside') memory.outside.push(s.now);
  else {
    memory.past.push(s.now);
    memory.outside = [];
  }
}
