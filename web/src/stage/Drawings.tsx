import { useDoubts } from "@/benches/mattes/doubtState";
import type { PathPoint, ShapePath } from "@/benches/mattes/paths";
import { outline, pointsOf } from "@/benches/mattes/paths";
import type { Mark } from "@/shot/marks";

import type { Placement } from "./geometry";
import { useTools } from "./tools";

interface Props {
  placement: Placement;
  marks: Mark[];
  /** Boxes of thin parts that vanish. */
  lost: number[][];
  /** Places where a matte is unsure, and the one that is looked at. */
  unsure?: { x: number; y: number; width: number; height: number }[];
  unsureAt?: number | null;
  paths: ShapePath[];
  /** A path that is being drawn. */
  open: PathPoint[];
  path: number | null;
  chosen: number[];
  /** The chosen curve at the keys before and after the frame that is looked at. */
  ghosts?: PathPoint[][];
}

/** What lies over the picture as lines: marks, shapes, and the thin parts that are lost. */
export function Drawings({
  placement,
  marks,
  lost,
  unsure = [],
  unsureAt = null,
  paths,
  open,
  path,
  chosen,
  ghosts = [],
}: Props) {
  const { zoom, left, top } = placement;
  const to = (x: number, y: number): [number, number] => [(x - left) * zoom, (y - top) * zoom];
  return (
    <>
      {lost.length > 0 && <Lost boxes={lost} zoom={zoom} to={to} />}
      <svg
        className="pointer-events-none absolute inset-0 h-full w-full"
        role="img"
        aria-label="Marks and shapes"
      >
        {marks.map((mark, index) => {
          const [x, y] = to(mark.x, mark.y);
          const radius = Math.max(4, mark.radius * zoom);
          const subject = mark.side === "subject";
          return (
            <g key={index} data-mark={mark.side}>
              <circle
                cx={x}
                cy={y}
                r={radius}
                fill="none"
                stroke={subject ? "#000" : "#fff"}
                strokeWidth={3.5}
                strokeOpacity={0.55}
              />
              <circle
                cx={x}
                cy={y}
                r={radius}
                fill="none"
                stroke={subject ? "#fff" : "#000"}
                strokeWidth={1.6}
              />
              <circle
                cx={x}
                cy={y}
                r={2.6}
                fill={subject ? "#fff" : "#000"}
                stroke={subject ? "#000" : "#fff"}
                strokeWidth={0.8}
              />
            </g>
          );
        })}
        {unsure.map(({ x, y, width, height }, index) => {
          const [sx, sy] = to(x, y);
          return (
            <rect
              key={`${x} ${y}`}
              data-unsure={index === unsureAt ? "here" : "there"}
              x={sx - 4}
              y={sy - 4}
              width={Math.max(2, width * zoom) + 8}
              height={Math.max(2, height * zoom) + 8}
              rx={3}
              fill="none"
              className="stroke-lilac"
              strokeWidth={index === unsureAt ? 1.6 : 1}
              strokeDasharray={index === unsureAt ? undefined : "2 5"}
            />
          );
        })}
        {ghosts.map((points, index) => (
          <path
            key={index}
            data-path="ghost"
            d={outline(points, to, true)}
            fill="none"
            className="stroke-lilac"
            strokeWidth={1}
            strokeDasharray="3 4"
          />
        ))}
        {paths.map((each, index) => (
          <Outline
            key={index}
            points={pointsOf(each)}
            to={to}
            lit={index === path}
            cut={each.mode === "cut"}
            chosen={index === path ? chosen : []}
          />
        ))}
        {open.length > 0 && <Outline points={open} to={to} lit cut={false} chosen={[open.length - 1]} open />}
      </svg>
    </>
  );
}

/** Boxes of what is lost, which draw the eye when they come and then rest. They fade together, as one layer: each by
 * itself would be drawn anew in every frame, beside whatever else the page has to do. */
function Lost({
  boxes,
  zoom,
  to,
}: {
  boxes: number[][];
  zoom: number;
  to: (x: number, y: number) => [number, number];
}) {
  return (
    <svg
      className="pointer-events-none absolute inset-0 h-full w-full animate-[breathe_0.9s_ease-in-out_3]"
      role="img"
      aria-label="Lost or unexplained"
    >
      {boxes.map(([x, y, width, height], index) => {
        const [sx, sy] = to(x!, y!);
        return (
          <rect
            key={index}
            x={sx - 3}
            y={sy - 3}
            width={Math.max(2, width! * zoom) + 6}
            height={Math.max(2, height! * zoom) + 6}
            rx={2}
            fill="none"
            strokeWidth={1.4}
            className="stroke-clay"
          />
        );
      })}
    </svg>
  );
}

interface OutlineProps {
  points: PathPoint[];
  to: (x: number, y: number) => [number, number];
  lit: boolean;
  cut: boolean;
  chosen: number[];
  open?: boolean;
}

function Outline({ points, to, lit, cut, chosen, open = false }: OutlineProps) {
  const path = outline(points, to, !open);
  const one = chosen.length === 1 ? points[chosen[0]!] : undefined;
  const handles = one
    ? [one.slice(2, 4), one.slice(4, 6)].filter((pair) => pair.length === 2 && (pair[0] || pair[1]))
    : [];
  const line = cut ? "stroke-clay" : "stroke-lichen";
  const held = chosen.flatMap((index) => (points[index] ? [to(points[index][0]!, points[index][1]!)] : []));
  const free = points.flatMap(([x, y], index) => (chosen.includes(index) ? [] : [to(x!, y!)]));
  return (
    <g data-path={open ? "open" : "closed"}>
      <path d={path} fill="none" stroke="#000" strokeOpacity={0.55} strokeWidth={3} />
      <path
        d={path}
        fill="none"
        className={line}
        strokeOpacity={lit ? 1 : 0.7}
        strokeWidth={lit ? 1.6 : 1.1}
      />
      {handles.map(([dx, dy], index) => {
        const [x, y] = to(one![0]!, one![1]!);
        const [hx, hy] = to(one![0]! + dx!, one![1]! + dy!);
        return (
          <g key={index}>
            <line x1={x} y1={y} x2={hx} y2={hy} className={line} strokeWidth={1} />
            <circle cx={hx} cy={hy} r={3.4} className={`fill-panel ${line}`} strokeWidth={1.2} />
          </g>
        );
      })}
      {/* All in two elements: hundreds of them would each be laid out again at every step of a drag. */}
      <path d={knots(free)} data-points="free" className={`fill-panel ${line}`} strokeWidth={1.2} />
      <path d={knots(held)} data-points="chosen" className={`fill-lichen ${line}`} strokeWidth={1.2} />
    </g>
  );
}

/** The points of a curve as one outline. */
function knots(places: [number, number][]): string {
  return places.map(([x, y]) => `M${x} ${y - 4.2}L${x + 4.2} ${y}L${x} ${y + 4.2}L${x - 4.2} ${y}Z`).join("");
}

/** Boxes of what is lost, unexplained or unsure, and nothing else. */
export function LostBoxes({ placement }: { placement: Placement }) {
  const lost = useTools((state) => state.lost);
  const { places, at } = useDoubts();
  return (
    <div
      className="pointer-events-none absolute left-0 top-0"
      style={{ width: placement.width, height: placement.height }}
    >
      <Drawings
        placement={placement}
        marks={[]}
        lost={lost}
        unsure={places}
        unsureAt={at}
        paths={[]}
        open={[]}
        path={null}
        chosen={[]}
      />
    </div>
  );
}
