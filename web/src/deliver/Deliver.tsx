import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Download, EllipsisVertical } from "lucide-react";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";

import { type DeliverableRow, type Item, type Problem, api, got, problemOf } from "@/api/client";
import { type Recipe, itemOf } from "@/api/recipe";
import { useGo } from "@/app/address";
import { Button } from "@/parts/Button";
import { Menu } from "@/parts/Menu";
import { Message } from "@/parts/Message";
import { NumberBox } from "@/parts/NumberBox";
import { Waiting } from "@/parts/Waiting";
import { useDraft } from "@/shot/draft";
import { useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";
import { useTime } from "@/time/timeState";
import { useWhole } from "@/time/whole";

import { type Making, NewDeliverable } from "./NewDeliverable";
import { Frames, OlderAgain, type Wish } from "./Frames";
import { Proposals } from "./Proposals";
import { type Span, isNumbered, savedAsSeen, startRender } from "./rendering";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  writable: boolean;
}

const BUSY = ["waiting", "rendering"];

/** Results written to files: what, in which format, and what became of the last render. */
export function Deliver({ shot, recipe, items, item, writable }: Props) {
  const client = useQueryClient();
  const [params] = useSearchParams();
  const go = useGo();
  // A bench may send here to deliver what it holds.
  const [making, setMaking] = useState<Making | null>(params.get("new") !== null ? { row: null } : null);
  useEffect(() => {
    if (params.get("new") !== null) go({ new: null }, { replace: true });
  }, [params, go]);
  const [problem, setProblem] = useState<Problem | null>(null);
  const whole = useWhole();
  const { range, frame } = useTime();
  const [chosen, setChosen] = useState<Span | null>(null);
  // A file without a number is one of the frame that is looked at.
  const span = chosen ?? { first: range[0], last: range[1], step: 1 };
  const spanOf = (file: string): Span =>
    isNumbered(file) && whole ? span : { first: frame, last: frame, step: 1 };
  const key = ["deliverables", shot];
  const answer = useQuery({
    queryKey: key,
    queryFn: () => got(api.GET("/api/shots/{shot_id}/deliverables", { params: { path: { shot_id: shot } } })),
    refetchInterval: (query) =>
      query.state.data?.some(
        (row) =>
          row.render && (BUSY.includes(row.render.state) || BUSY.includes(row.render.movie?.state ?? "")),
      )
        ? 500
        : false,
  });
  // Which frames stand in a source now, the revision says.
  const head = useDraft((state) => state.head?.number);
  useEffect(() => {
    void client.invalidateQueries({ queryKey: ["deliverables", shot] });
  }, [client, shot, head]);
  const act = async (work: () => Promise<unknown>) => {
    setProblem(null);
    try {
      await work();
    } catch (error) {
      setProblem(problemOf(error));
    }
    await client.invalidateQueries({ queryKey: key });
  };
  const path = (row: DeliverableRow) => ({ params: { path: { shot_id: shot, deliverable_id: row.id } } });
  return (
    <section aria-label="Deliver" className="min-w-0 grow overflow-y-auto bg-well p-6">
      <div className="mx-auto max-w-5xl">
        <div className="mb-4 flex items-center justify-between">
          <h2 className="text-[16px] font-semibold">Deliverables</h2>
          <div className="flex gap-2">
            <a
              href={`/api/shots/${shot}/recipe`}
              title="The steps as a file; dropped on a shot, it is taken there"
              className="inline-flex h-6 items-center rounded-sm border border-line px-2 text-[12px] text-dim hover:text-text"
            >
              Download the recipe
            </a>
            {writable && (answer.data?.length ?? 0) > 1 && (
              <Button
                title="Render every deliverable of the table"
                onClick={() =>
                  void act(async () => {
                    for (const row of answer.data ?? []) {
                      const { file } = row.spec as { file: string };
                      await startRender(shot, row.id, file, spanOf(file));
                    }
                  })
                }
              >
                Deliver all
              </Button>
            )}
            {answer.data?.some((row) => row.render?.frames.some(({ kept }) => kept)) && (
              <a
                href={`/api/shots/${shot}/delivered`}
                download
                title="The newest file of each, in one archive"
                className="inline-flex h-6 items-center rounded-sm border border-line px-2 text-[12px] text-dim hover:text-text"
              >
                Download all
              </a>
            )}
            {writable && (
              <Button
                main
                onClick={() => setMaking({ row: null })}
                disabled={!items.some((entry) => !entry.problem)}
              >
                New deliverable
              </Button>
            )}
          </div>
        </div>
        {whole && (
          <div
            role="group"
            aria-label="Frames to render"
            className="mb-3 flex items-center gap-1 text-[12px] text-dim"
          >
            Frames
            <NumberBox
              label="First frame to render"
              value={span.first}
              step={1}
              places={0}
              onChange={(first) => setChosen({ ...span, first: Math.round(first) })}
            />
            to
            <NumberBox
              label="Last frame to render"
              value={span.last}
              step={1}
              places={0}
              onChange={(last) => setChosen({ ...span, last: Math.round(last) })}
            />
            every
            <NumberBox
              label="Step between frames"
              value={span.step}
              step={1}
              places={0}
              min={1}
              max={1000}
              onChange={(step) => setChosen({ ...span, step: Math.round(step) })}
            />
            {chosen && (
              <Button quiet onClick={() => setChosen(null)}>
                as on the timeline
              </Button>
            )}
            <span className="ml-2 text-faint">
              A file name with %04d gets each frame&apos;s number; one without is written of the frame that is
              looked at.
            </span>
          </div>
        )}
        {problem && (
          <div className="mb-3">
            <Message problem={problem} />
          </div>
        )}
        {answer.isPending && <Waiting text="Fetching deliverables" />}
        {answer.isError && <Message problem={problemOf(answer.error)} />}
        {answer.data?.length === 0 && (
          <>
            <p className="text-dim">
              Nothing is delivered yet. A deliverable is a result with a file name and a format; it is
              rendered from the revision you see.
            </p>
            {writable && (
              <Proposals
                shot={shot}
                recipe={recipe}
                items={items}
                onTake={(from) => setMaking({ row: null, from })}
              />
            )}
          </>
        )}
        {answer.data && answer.data.length > 0 && (
          <table className="w-full border-collapse text-left text-[12px]">
            <thead className="text-[11px] text-dim">
              <tr className="border-b border-line">
                {["", "Name", "From", "File", "Format", "State", ""].map((heading, index) => (
                  <th key={index} className="px-2 py-1 font-normal">
                    {heading}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {answer.data.map((row) => (
                <Row
                  key={row.id}
                  shot={shot}
                  row={row}
                  items={items}
                  writable={writable}
                  onChange={(again) => setMaking({ row, again })}
                  onRender={() =>
                    void act(() => {
                      const { file } = row.spec as { file: string };
                      return startRender(shot, row.id, file, spanOf(file));
                    })
                  }
                  onMovie={(render, rate) =>
                    void act(() =>
                      got(
                        api.POST("/api/shots/{shot_id}/renders/{render_id}/movie", {
                          params: { path: { shot_id: shot, render_id: render } },
                          body: { rate, numbers: true },
                        }),
                      ),
                    )
                  }
                  onWish={(render, wish, at) =>
                    void act(async () => {
                      if (wish === "older") await savedAsSeen();
                      return got(
                        api.POST("/api/shots/{shot_id}/renders/{render_id}", {
                          params: { path: { shot_id: shot, render_id: render } },
                          body: { wish, frame: at ?? null },
                        }),
                      );
                    })
                  }
                  onRemove={() =>
                    void act(() =>
                      api.DELETE("/api/shots/{shot_id}/deliverables/{deliverable_id}", path(row)),
                    )
                  }
                />
              ))}
            </tbody>
          </table>
        )}
      </div>
      {making && (
        <NewDeliverable
          shot={shot}
          recipe={recipe}
          items={items}
          item={making.from ?? item}
          making={making}
          taken={answer.data?.map((row) => row.name) ?? []}
          onClose={() => setMaking(null)}
          onMade={() => {
            setMaking(null);
            void client.invalidateQueries({ queryKey: key });
          }}
        />
      )}
    </section>
  );
}

function stateOf(render: DeliverableRow["render"] | undefined, lost: boolean, older: boolean): string {
  if (!render) return "not rendered";
  if (BUSY.includes(render.state)) return "rendering";
  if (older) return `made from older frames, rev ${render.revision}`;
  if (lost) return `was delivered, rev ${render.revision}; not kept: render again`;
  return `${render.state}, rev ${render.revision}`;
}

interface RowProps {
  shot: number;
  row: DeliverableRow;
  items: Item[];
  writable: boolean;
  /** Change it, or make another one like it. */
  onChange: (again: boolean) => void;
  onRender: () => void;
  onRemove: () => void;
  onWish: (render: number, wish: Wish, frame?: number) => void;
  onMovie: (render: number, rate: number) => void;
}

function Row({ shot, row, items, writable, onChange, onRender, onRemove, onWish, onMovie }: RowProps) {
  const spec = row.spec as {
    from: string | Record<string, string>;
    file: string;
    format?: string;
    depth?: string;
    alpha?: string;
    compression?: string;
    dither?: string;
    split?: boolean;
  };
  const addresses = typeof spec.from === "string" ? [spec.from] : Object.values(spec.from);
  const from = addresses[0] ?? "";
  const gone = addresses.find((address) => !items.some((entry) => entry.name === itemOf(address)));
  const item = items.find((entry) => entry.name === itemOf(from));
  const planes = useSmallPlanes(shot, item, from, !item?.problem);
  const render = row.render;
  const many = (render?.frames.length ?? 0) > 1;
  const frame = many ? undefined : render?.frames[0];
  const busy = render && BUSY.includes(render.state);
  const kept = render?.frames.filter((each) => each.kept).length ?? 0;
  const lost = render?.state === "done" && kept === 0;
  const older = frame?.older ?? false;
  const format = [
    spec.format,
    spec.depth && (/^\d/.test(spec.depth) ? `${spec.depth} bit` : spec.depth),
    spec.compression,
    spec.alpha && `alpha ${spec.alpha}`,
    spec.dither && `${spec.dither} dither`,
    spec.split && "a file for each channel",
  ];
  return (
    <>
      <tr className={`bg-panel align-middle ${render?.written ? "" : "border-b border-line"}`}>
        <td className="w-24 p-2">
          <SmallPicture
            planes={planes.data}
            error={planes.error}
            label={row.name}
            className="h-12 w-[85px] rounded-sm border border-line"
          />
        </td>
        <td className="px-2 text-[13px] font-medium">{row.name}</td>
        <td className={`px-2 font-mono ${gone ? "text-ember" : ""}`}>
          {gone ? `${gone} is gone` : addresses.join(", ")}
        </td>
        <td className="px-2 font-mono">{spec.file}</td>
        <td className="px-2 text-dim">{format.filter(Boolean).join(", ")}</td>
        <td className="px-2">
          <span
            role="status"
            className={
              render?.state === "failed"
                ? "text-ember"
                : lost || older
                  ? "text-clay"
                  : render?.state === "done"
                    ? "text-lichen"
                    : "text-dim"
            }
          >
            {stateOf(render, lost, older)}
          </span>
          {frame?.state === "done" && (
            <span className="ml-2 font-mono text-[11px] text-faint">{frame.seconds.toFixed(2)} s</span>
          )}
        </td>
        <td className="px-2">
          <div className="flex items-center justify-end gap-2">
            {render && many && kept > 0 && (
              <a
                href={`/api/shots/${shot}/renders/${render.id}/files`}
                download
                title="All frames that are done, in one archive"
                className="inline-flex h-6 items-center gap-1 rounded-sm border border-lichen px-2 text-lichen"
              >
                <Download size={12} /> {kept} files
              </a>
            )}
            {render?.state === "done" && !many && kept > 0 && (
              <a
                href={`/api/shots/${shot}/renders/${render.id}/file`}
                download
                className="inline-flex h-6 items-center gap-1 rounded-sm border border-lichen px-2 text-lichen"
              >
                <Download size={12} /> {frame?.file}
              </a>
            )}
            {writable && (
              <>
                {older && !busy && render && <OlderAgain onWish={(wish) => onWish(render.id, wish)} />}
                <Button onClick={onRender} disabled={Boolean(busy)}>
                  Render
                </Button>
                <Menu
                  choices={[
                    {
                      label: "Edit",
                      onSelect: () => onChange(false),
                    },
                    {
                      label: "Duplicate",
                      onSelect: () => onChange(true),
                    },
                    { label: "Remove", danger: true, onSelect: onRemove },
                  ]}
                >
                  <button
                    type="button"
                    aria-label={`More for the deliverable ${row.name}`}
                    title="Edit, duplicate, remove"
                    className="text-faint hover:text-text"
                  >
                    <EllipsisVertical size={13} />
                  </button>
                </Menu>
              </>
            )}
          </div>
        </td>
      </tr>
      {render && many && (
        <tr>
          <td colSpan={7}>
            <Frames
              shot={shot}
              name={row.name}
              render={render}
              writable={writable}
              onWish={(wish, at) => onWish(render.id, wish, at)}
              onMovie={(rate) => onMovie(render.id, rate)}
            />
          </td>
        </tr>
      )}
      {render?.written && (
        <tr className="border-b border-line bg-panel">
          <td />
          <td colSpan={6} className="px-2 pb-2 text-[11px] leading-snug text-dim" data-written={row.name}>
            {render.written}
          </td>
        </tr>
      )}
      {frame?.error && (
        <tr>
          <td colSpan={7} className="p-2">
            <Message problem={frame.error} />
          </td>
        </tr>
      )}
    </>
  );
}
