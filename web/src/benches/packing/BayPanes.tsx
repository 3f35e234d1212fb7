import type { Item } from "@/api/client";
import { type Recipe, itemOf } from "@/api/recipe";
import { useLivePlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import { baysOf } from "./packs";
import { usePackingView } from "./packingView";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  item: string | null;
  pack: string;
  onChoose: (item: string) => void;
}

const TINT: Record<string, string> = { R: "text-red", G: "text-green", B: "text-blue", A: "text-alpha" };
/** Samples that a pane is wide, at least, where the texture has them. */
const SHARP = 200;

/** The destination channels as greyscale pictures, and below them the texture they are packed into. */
export function BayPanes({ shot, recipe, items, item, pack, onChoose }: Props) {
  const change = usePackingView((state) => state.change);
  const step = recipe.steps?.find((each) => each.name === pack);
  if (!step) return null;
  const bays = baysOf(recipe, step);
  const size = items.find((entry) => entry.name === pack)?.display;
  const look = (name: string) => {
    onChoose(name);
    change({ pack });
  };
  return (
    <div
      role="group"
      aria-label="Bays as pictures"
      className="grid min-h-0 shrink-0 gap-px bg-line"
      style={{
        gridTemplateRows: `repeat(${bays.length + 1}, minmax(0, 1fr))`,
        aspectRatio: `1 / ${bays.length + 1}`,
        maxWidth: "45%",
      }}
    >
      {bays.map((bay) => (
        <Pane
          key={bay.port}
          shot={shot}
          recipe={recipe}
          items={items}
          address={bay.address}
          lit={item === itemOf(bay.address)}
          onChoose={() => look(itemOf(bay.address))}
        >
          <span className={TINT[bay.channel]}>{bay.channel}</span> {bay.meaning.replaceAll("_", " ")}
        </Pane>
      ))}
      <Pane
        shot={shot}
        recipe={recipe}
        items={items}
        address={pack}
        lit={item === pack}
        onChoose={() => look(pack)}
      >
        packed{size && ` · ${size[2] === size[3] ? `${size[2]}²` : `${size[2]} × ${size[3]}`}`}
      </Pane>
    </div>
  );
}

interface PaneProps {
  shot: number;
  recipe: Recipe;
  items: Item[];
  address: string;
  lit: boolean;
  onChoose: () => void;
  children: React.ReactNode;
}

function Pane({ shot, recipe, items, address, lit, onChoose, children }: PaneProps) {
  const known = items.find((entry) => entry.name === itemOf(address));
  const longest = Math.max(known?.display?.[2] ?? 0, known?.display?.[3] ?? 0);
  const scale = [8, 4, 2, 1].find((each) => longest / each >= SHARP) ?? 1;
  const seen = useLivePlanes(
    shot,
    known && !known.problem ? { recipe, address, scale, view: `bay-${address}` } : null,
  );
  return (
    <button
      type="button"
      aria-pressed={lit}
      onClick={onChoose}
      className={`relative min-h-0 overflow-hidden bg-stage ${lit ? "z-10 outline-1 -outline-offset-1 outline-lichen" : ""}`}
    >
      {known?.problem ? (
        <span className="flex h-full items-center justify-center px-2 text-center text-[11px] text-ember">
          {known.problem.message}
        </span>
      ) : seen.problem ? (
        <span className="flex h-full items-center justify-center px-2 text-center text-[11px] text-dim">
          {seen.problem.code === "pending" ? "being computed" : seen.problem.message}
        </span>
      ) : (
        <SmallPicture
          planes={seen.planes ?? undefined}
          look={{ backing: { kind: "none" } }}
          label={`${address} in grey`}
          className="h-full w-full"
        />
      )}
      <span className="absolute left-1.5 top-1.5 max-w-[92%] truncate rounded-sm border border-line bg-panel/85 px-1.5 text-[11px] leading-4">
        {children}
      </span>
    </button>
  );
}
