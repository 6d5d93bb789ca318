import type { RailRow } from './strip';

const LANE = 12;
const HEIGHT = 28;
const middle = HEIGHT / 2;
const x = (lane: number) => 9 + lane * LANE;

/** The line that a step stands on, and the lines that meet in it. */
export function Rail({ row, lanes, isChosen }: { row: RailRow; lanes: number; isChosen: boolean }) {
  const own = x(row.lane);
  const line = (d: string, key: string) => <path key={key} d={d} stroke="var(--rule)" fill="none" />;
  return (
    <svg width={x(lanes)} height={HEIGHT} aria-hidden className="shrink-0">
      {row.passes.map((lane) => line(`M${x(lane)} 0V${HEIGHT}`, `p${lane}`))}
      {row.hasAbove && line(`M${own} 0V${middle}`, 'above')}
      {row.hasBelow && line(`M${own} ${middle}V${HEIGHT}`, 'below')}
      {row.joins.map((lane) =>
        line(`M${x(lane)} 0C${x(lane)} ${middle} ${x(lane)} ${middle} ${own} ${middle}`, `j${lane}`),
      )}
      <rect
        x={own - 4.5}
        y={middle - 4.5}
        width="9"
        height="9"
        strokeWidth="1.4"
        stroke={isChosen ? 'var(--plan)' : 'var(--soft)'}
        fill={isChosen ? 'var(--plan)' : 'var(--sheet)'}
      />
    </svg>
  );
}
