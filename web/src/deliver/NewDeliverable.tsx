import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type Item, type Problem, api, got, problemOf } from "@/api/client";
import { ITEM_NAME } from "@/api/names";
import { AddressField } from "@/bench/AddressField";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";

interface Props {
  shot: number;
  items: Item[];
  item: string | null;
  taken: string[];
  onClose: () => void;
  onMade: () => void;
}

/** Channels that come from a source untouched keep its sample type; what was made is half. */
const OWN = "as the sources";

/** Which result, under which name, in which format. */
export function NewDeliverable({ shot, items, item, taken, onClose, onMade }: Props) {
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => got(api.GET("/api/formats")),
    staleTime: Infinity,
  });
  const [from, setFrom] = useState(item ?? "");
  const [format, setFormat] = useState("exr");
  const [depth, setDepth] = useState("");
  const [alpha, setAlpha] = useState("");
  const [compression, setCompression] = useState("");
  const [file, setFile] = useState<string | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const known = formats.data?.find((row) => row.name === format);
  const stem = from.replaceAll(/[^\w]+/g, "_").toLowerCase() || "result";
  const fileName = file ?? `${stem}${known?.suffix ?? ""}`;
  const base = ITEM_NAME.test(stem) ? stem : "result";
  const name = taken.includes(base) ? `${base}_${taken.length + 1}` : base;
  const chosenDepth = depth || (format === "exr" ? OWN : (known?.depths[0] ?? "half"));
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
      alpha: alpha || known?.alpha,
      ...(compression ? { compression } : {}),
    };
    try {
      const made = await got(
        api.POST("/api/shots/{shot_id}/deliverables", {
          params: { path: { shot_id: shot } },
          body: { name, spec },
        }),
      );
      await api.POST("/api/shots/{shot_id}/deliverables/{deliverable_id}/renders", {
        params: { path: { shot_id: shot, deliverable_id: made.id } },
      });
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
            options={[...(format === "exr" ? [OWN] : []), ...(known?.depths ?? ["half"])].map((value) => ({
              value,
              label: /^\d/.test(value) ? `${value} bit` : value,
            }))}
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
              value={alpha || known.alpha}
              options={["premultiplied", "straight", "none"]}
              onChange={setAlpha}
              className="w-32"
            />,
          )}
        <TextField
          label="File name"
          value={fileName}
          required
          onChange={(event) => setFile(event.target.value)}
        />
        <p className="text-[12px] text-dim">
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
