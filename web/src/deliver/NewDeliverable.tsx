import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import {
  type DeliverableRow,
  type FormatRow,
  type Item,
  type Problem,
  api,
  got,
  problemOf,
} from "@/api/client";
import { ITEM_NAME } from "@/api/names";
import { type Recipe, findStep, freeName, insertAfter, itemOf, restOf } from "@/api/recipe";
import { useDraft } from "@/shot/draft";
import { pictureOf } from "@/stage/focus";
import { useTime } from "@/time/timeState";
import { useWhole } from "@/time/whole";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";

import { Announcement } from "./Announcement";
import { ManyChannels } from "./ManyChannels";
import { channelName, isNumbered, savedAsSeen, startRender } from "./rendering";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  making: Making;
  taken: string[];
  onClose: () => void;
  onMade: () => void;
}

/** What the dialog is open for: a new one, one to be changed, or another one like it (`again`). */
export interface Making {
  row: DeliverableRow | null;
  again?: boolean;
  /** What a new one is made of, where that was proposed. */
  from?: string;
}

/** How a deliverable is written, as it was chosen last for its kind. */
interface Chosen {
  format?: string;
  depth?: string;
  alpha?: string;
  compression?: string;
  dither?: string;
}

/** What was chosen in one shot is no choice for another. */
const chosenIn = (shot: number, kind: string) => `nexal-deliver-${shot}-${kind}`;

function lastOf(shot: number, kind: string): Chosen {
  try {
    return JSON.parse(localStorage.getItem(chosenIn(shot, kind)) ?? "{}") as Chosen;
  } catch {
    return {};
  }
}

/** Channels that come from a source untouched keep its sample type; what was made is half. */
const OWN = "as the sources";

/** Whether two channels of a file have one name. */
const namedTwice = (channels: [string, string][]) =>
  channels.some(([own], index) => channels.findIndex(([other]) => other === own) < index);

/** The format that a file name's suffix means, whenever the formats are known; else the one that was chosen. */
function formatOf(formats: FormatRow[] | undefined, file: string | null, chosen: string): string {
  const fits = (row: FormatRow) => row.suffixes.some((suffix) => file?.toLowerCase().endsWith(suffix));
  const fitting = formats?.filter(fits).map((row) => row.name) ?? [];
  return fitting.includes(chosen) ? chosen : (fitting[0] ?? chosen);
}

/** A file name with the suffix of another format, where it has that of its own. */
function withSuffix(file: string, old: FormatRow, next: FormatRow | undefined): string {
  const suffix = old.suffixes.find((each) => file.toLowerCase().endsWith(each));
  return suffix && next ? file.slice(0, -suffix.length) + next.suffix : file;
}

/** A name that no other deliverable has. */
function freeAmong(taken: string[], base: string): string {
  let name = base;
  for (let number = 2; taken.includes(name); number++) name = `${base}_${number}`;
  return name;
}

/** Which result, under which name, in which format. */
export function NewDeliverable({ shot, recipe, items, item, making, taken, onClose, onMade }: Props) {
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => got(api.GET("/api/formats")),
    staleTime: Infinity,
  });
  const edit = useDraft((state) => state.edit);
  const old = making.row?.spec as
    (Chosen & { from: string | Record<string, string>; file: string; split?: boolean }) | undefined;
  const several = typeof old?.from === "object" ? Object.entries(old.from) : null;
  const [from, setFrom] = useState(several?.[0]?.[1] ?? (old?.from as string | undefined) ?? item ?? "");
  /** What goes into the same file, each as a channel of its own name; empty for one result by itself. */
  const [channels, putTogether] = useState<[string, string][]>(several ?? []);
  const texture = findStep(recipe, from)?.op === "pack";
  const source = items.find((entry) => entry.name === itemOf(from));
  const matte =
    Boolean(source?.plane) || (restOf(from) !== "" && (source?.channels.includes(restOf(from)) ?? false));
  const kind = texture ? "texture" : matte ? "matte" : "picture";
  const last = old ?? lastOf(shot, kind);
  const [chosenFormat, setFormat] = useState<string | null>(old?.format ?? null);
  const [file, setFile] = useState<string | null>(old ? (making.again ? null : old.file) : null);
  const format = formatOf(formats.data, file, chosenFormat ?? last.format ?? (texture ? "png" : "exr"));
  const [dither, setDither] = useState<string | null>(null);
  const [split, setSplit] = useState(old?.split ?? false);
  const [depth, setDepth] = useState<string | null>(null);
  const [alpha, setAlpha] = useState<string | null>(null);
  const [compression, setCompression] = useState<string | null>(null);
  const whole = useWhole();
  const [problem, setProblem] = useState<Problem | null>(null);
  const known = formats.data?.find((row) => row.name === format);
  const stem = from.replaceAll(/[^\w]+/g, "_").toLowerCase() || "result";
  const named = texture && findStep(recipe, from)?.set?.layout ? "{shot}_{layout}" : stem;
  const fileName = file ?? `${named}${whole && !texture ? ".%04d" : ""}${known?.suffix ?? ""}`;
  const base = ITEM_NAME.test(stem) ? stem : "result";
  const name = freeAmong(taken, base);
  // What was chosen last holds as long as the format does.
  const fitting = last.format === format ? last : {};
  const ownType = format === "exr" || split ? OWN : (known?.depths[0] ?? "half");
  const chosenDepth = depth ?? (known?.depths.includes(fitting.depth ?? "") ? fitting.depth! : ownType);
  // A texture's alpha is a channel like the others: its colour is never multiplied by it.
  const chosenAlpha =
    alpha ?? fitting.alpha ?? (texture && known?.alpha !== "none" ? "straight" : known?.alpha);
  const chosenCompression = compression ?? fitting.compression ?? "";
  const chosenDither = dither ?? fitting.dither ?? "none";
  const together = channels.length > 0;
  const carrier = matte && !together ? pictureOf(recipe, items, itemOf(from)) : null;
  /** The matte becomes a channel of its picture, as a step, and that is delivered. */
  const carry = () => {
    const made = freeName(recipe, `${carrier!}_with_matte`);
    const channel = ITEM_NAME.test(stem) ? stem : "matte";
    edit((before) =>
      insertAfter(
        before,
        { name: made, op: "route", in: { base: carrier! }, set: { to: { [channel]: { from } } } },
        itemOf(from),
      ),
    );
    setFrom(made);
    setFile(null);
  };
  const change = (next: string) => {
    setFormat(next);
    setDepth(null);
    setAlpha(null);
    setCompression(null);
    if (file !== null && known)
      setFile(
        withSuffix(
          file,
          known,
          formats.data?.find((row) => row.name === next),
        ),
      );
    if (next !== "exr") putTogether([]);
  };
  /** A suffix that is typed says which format is meant. */
  const rename = (typed: string) => {
    const meant = formatOf(formats.data, typed, format);
    if (meant !== format) change(meant);
    setFile(typed);
  };
  const { range, frame } = useTime();
  const [first, lastFrame] = whole && isNumbered(fileName) ? range : [frame, frame];
  const spec: Record<string, unknown> = {
    from: together ? Object.fromEntries(channels) : from,
    file: fileName,
    format,
    ...(chosenDepth === OWN ? {} : { depth: chosenDepth }),
    alpha: chosenAlpha,
    ...(chosenCompression && known?.compressions.includes(chosenCompression)
      ? { compression: chosenCompression }
      : {}),
    ...(chosenDither !== "none" && chosenDepth === "8" ? { dither: chosenDither } : {}),
    ...(split ? { split } : {}),
  };
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    try {
      await savedAsSeen();
      const path = { shot_id: shot };
      const changed = making.again ? null : making.row;
      const made = changed
        ? await got(
            api.PUT("/api/shots/{shot_id}/deliverables/{deliverable_id}", {
              params: { path: { ...path, deliverable_id: changed.id } },
              body: spec,
            }),
          )
        : await got(
            api.POST("/api/shots/{shot_id}/deliverables", { params: { path }, body: { name, spec } }),
          );
      const { format: _, from: __, file: ___, split: ____, ...rest } = spec;
      localStorage.setItem(chosenIn(shot, kind), JSON.stringify({ format, ...rest }));
      await startRender(shot, made.id, fileName, { first, last: lastFrame, step: 1 });
      onMade();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const row = (label: string, control: React.ReactNode) => (
    <div className="grid grid-cols-[84px_1fr] items-center gap-2">
      <span className="text-[12px] text-dim">{label}</span>
      <div>{control}</div>
    </div>
  );
  return (
    <Modal
      title={making.row && !making.again ? `Edit ${making.row.name}` : "New deliverable"}
      open
      onClose={onClose}
      width={420}
    >
      <form onSubmit={(event) => void submit(event)} className="space-y-3">
        {together ? (
          <ManyChannels channels={channels} items={items} onChange={putTogether} />
        ) : (
          <AddressField
            label="From"
            kind="any"
            value={from}
            items={items}
            onChange={(next) => next && setFrom(next)}
          />
        )}
        {carrier && (
          <div className="flex items-center justify-between gap-2 text-[12px] text-dim">
            <span>A matte by itself; or with its picture:</span>
            <Button onClick={carry}>Keep it as a channel of {carrier}</Button>
          </div>
        )}
        {matte && !together && (
          <div className="flex items-center justify-between gap-2 text-[12px] text-dim">
            <span>Or with other mattes in one EXR:</span>
            <Button
              onClick={() => {
                change("exr");
                putTogether([[channelName(from, []), from]]);
              }}
            >
              Each as a channel
            </Button>
          </div>
        )}
        {row(
          "Format",
          <Choose
            label="Format"
            value={format}
            options={formats.data?.map((entry) => entry.name) ?? ["exr"]}
            onChange={change}
            className="w-32"
          />,
        )}
        {row(
          "Depth",
          <Choose
            label="Depth"
            value={chosenDepth}
            options={[...(format === "exr" || split ? [OWN] : []), ...(known?.depths ?? ["half"])].map(
              (value) => ({
                value,
                label: /^\d/.test(value) ? `${value} bit` : value,
              }),
            )}
            onChange={setDepth}
            className="w-44"
          />,
        )}
        {known &&
          known.compressions.length > 0 &&
          row(
            "Compression",
            <Choose
              label="Compression"
              value={chosenCompression || known.compressions[0]!}
              options={known.compressions}
              onChange={setCompression}
              className="w-32"
            />,
          )}
        {known &&
          known.alpha !== "none" &&
          row(
            "Alpha",
            <Choose
              label="Alpha"
              value={chosenAlpha ?? "none"}
              options={["premultiplied", "straight", "none"]}
              onChange={setAlpha}
              className="w-32"
            />,
          )}
        {chosenDepth === "8" &&
          row(
            "Dither",
            <Choose
              label="Dither"
              value={chosenDither}
              options={[
                { value: "none", label: "none: rounded" },
                { value: "ordered", label: "ordered" },
                { value: "diffusion", label: "error diffusion" },
              ]}
              onChange={setDither}
              className="w-32"
            />,
          )}
        {row(
          "Channels",
          <Button lit={split} onClick={() => setSplit(!split)}>
            each in a file of its own
          </Button>,
        )}
        <TextField
          label="File name"
          value={fileName}
          required
          onChange={(event) => rename(event.target.value)}
        />
        <p className="text-[12px] text-dim">
          {split &&
            "The files come in an archive, beside a manifest; dropped into a shot together, they make one picture again. "}
          {fileName.includes("{") && "{shot}, {layout} and {name} are filled in. "}
          The recipe, the fingerprints of its sources and the program's version travel in the file where its
          format can hold them.
        </p>
        <Announcement
          shot={shot}
          recipe={recipe}
          name={making.row && !making.again ? making.row.name : name}
          spec={spec}
          frames={[first, lastFrame]}
        />
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={!known || (together ? namedTwice(channels) : !from)}>
            Render
          </Button>
        </div>
      </form>
    </Modal>
  );
}
