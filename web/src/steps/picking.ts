import { type Item, api, got } from "@/api/client";
import { type Recipe, insertAfter, itemOf, drafted } from "@/api/recipe";
import { useView } from "@/stage/viewState";

/** Where values are picked: an address of a recipe, on the stage. */
export interface Picking {
  shot: number;
  recipe: Recipe;
  items: Item[];
  address: string | undefined;
  /** Colours are picked as display-encoded values, not scene-linear. */
  encoded?: boolean;
}

async function probe({ shot, recipe }: Picking, address: string, x: number, y: number) {
  const [row] = await got(
    api.POST("/api/shots/{shot_id}/probe", {
      params: { path: { shot_id: shot } },
      body: {
        ...drafted(recipe),
        addresses: [address],
        x,
        y,
        size: 3,
      },
    }),
  );
  return row;
}

function ask(label: string, take: (x: number, y: number) => void): void {
  useView.getState().change({ pick: { label, take } });
}

/** The next click on the stage gives a level: of a plane itself, of a picture its luminance. */
export function pickLevel(
  picking: Picking,
  label: string,
  domain: "display" | "scene",
  take: (value: number) => void,
): void {
  const { address, items, recipe } = picking;
  if (!address) return;
  const known = items.find((item) => item.name === itemOf(address));
  const picture = known && !known.plane && address === known.name && known.channels.length > 1;
  const weighed = picture
    ? insertAfter(recipe, { name: "picked_luminance", op: "weigh", in: { from: address } }, null)
    : recipe;
  ask(label, (x, y) => {
    void probe({ ...picking, recipe: weighed }, picture ? "picked_luminance" : address, x, y).then((row) => {
      const channel = row?.channels[0];
      const value = domain === "display" ? channel?.encoded : channel?.value;
      if (typeof value === "number") take(value);
    });
  });
}

/** The next click on the stage gives a colour, scene-linear unless encoded values are asked for. */
export function pickColour(picking: Picking, label: string, take: (rgb: number[]) => void): void {
  const { address } = picking;
  if (!address) return;
  ask(label, (x, y) => {
    void probe(picking, address, x, y).then((row) => {
      const values = ["R", "G", "B"].map((name) => {
        const found = row?.channels.find((channel) => channel.name.split(".").pop() === name);
        return picking.encoded ? found?.encoded : found?.value;
      });
      if (values.every((value) => typeof value === "number")) take(values as number[]);
    });
  });
}

/** The next click on the stage gives a position. */
export function pickPoint(label: string, take: (point: number[]) => void): void {
  ask(label, (x, y) => take([x + 0.5, y + 0.5]));
}
