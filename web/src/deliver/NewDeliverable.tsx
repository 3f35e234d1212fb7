import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type Item, type Problem, api, got, problemOf } from "@/api/client";
import { ITEM_NAME } from "@/api/names";
import { type Recipe, findStep } from "@/api/recipe";
import { AddressField } from "@/steps/AddressField";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";

import { savedAsSeen, startRender } from "./rendering";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  taken: string[];
  onClose: () => void;
  onMade: () => void;
}

/** Channels that come from a source untouched keep its sample type; what was made is half. */
const OWN = "as the sources";

/** Which result, under which name, in which format. */
export function NewDeliverable({ shot, recipe, items, item, taken, onClose, onMade }: Props) {
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => got(api.GET("/api/formats")),
    staleTime: Infinity,
  });
  const [from, setFrom] = useState(item ?? "");
  const texture = findStep(recipe, from)?.op === "pack";
  const [chosenFormat, setFormat] = useState<string | null>(null);
  const format = chosenFormat ?? (texture ? "png" : "exr");
  const [dither, setDither] = useState("none");
  const [split, setSplit] = useState(false);
  const [depth, setDepth] = useState("");
  const [alpha, setAlpha] = useState("");
  const [compression, setCompression] = useState("");
  const [file, setFile] = useState<string | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const known = formats.data?.find((row) => row.name === format);
  const stem = from.replaceAll(/[^\w]+/g, "_").toLowerCase() || "result";
  const named = texture && findStep(recipe, from)?.set?.layout ? "{shot}_{layout}" : stem;
  const fileName = file ?? `${named}${known?.suffix ?? ""}`;
  const base = ITEM_NAME.test(stem) ? stem : "result";
  const name = taken.includes(base) ? `${base}_${taken.length + 1}` : base;
  const chosenDepth = depth || (format === "exr" || split ? OWN : (known?.depths[0] ?? "half"));
  // A texture's alpha is a channel like the others: its colour is never multiplied by it.
  const chosenAlpha = alpha || (texture && known?.alpha !== "none" ? "straight" : known?.alpha);
  const change = (next: string) => {
    setFormat(next);
    setDepth("");
    setAlpha("");
    setCompression("");
    setFile(null);
  };
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    const spec: Record<string, unknown> = {
      from,
      file: fileName,
      format,
      ...(chosenDepth === OWN ? {} : { depth: chosenDepth }),
      alpha: chosenAlpha,
      ...(compression ? { compression } : {}),
      ...(dither !== "none" && chosenDepth === "8" ? { dither } : {}),
      ...(split ? { split } : {}),
    };
    try {
      await savedAsSeen();
      const made = await got(
        api.POST("/api/shots/{shot_id}/deliverables", {
          params: { path: { shot_id: shot } },
          body: { name, spec },
        }),
      );
      await startRender(shot, made.id);
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
    <Modal title="New deliverable" open onClose={onClose} width={420}>
      <form onSubmit={(event) => void submit(event)} className="space-y-3">
        <AddressField
          label="From"
          kind="any"
          value={from}
          items={items}
          onChange={(next) => next && setFrom(next)}
        />
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
              value={compression || known.compressions[0]!}
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
              value={dither}
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
          onChange={(event) => setFile(event.target.value)}
        />
        <p className="text-[12px] text-dim">
          {split &&
            "The files come in an archive, beside a manifest; dropped into a shot together, they make one picture again. "}
          {fileName.includes("{") && "{shot}, {layout} and {name} are filled in. "}
          The recipe, the fingerprints of its sources and the program's version travel in the file where its
          format can hold them.
        </p>
        {problem && <Message problem={problem} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={!from || !known}>
            Render
          </Button>
        </div>
      </form>
    </Modal>
  );
}
