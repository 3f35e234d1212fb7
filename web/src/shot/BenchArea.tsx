import type { Item, OperationRow } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { EdgeTools } from "@/benches/edges/EdgeTools";
import { EdgesPanel } from "@/benches/edges/EdgesPanel";
import { MattesPanel } from "@/benches/mattes/MattesPanel";
import { StageTools } from "@/benches/mattes/StageTools";
import { DeskArea } from "@/benches/passes/DeskArea";
import { PackingPanel } from "@/benches/packing/PackingPanel";
import { PackingStage } from "@/benches/packing/PackingStage";
import { PassesPanel } from "@/benches/passes/PassesPanel";
import { SpaceBench } from "@/benches/space/SpaceBench";
import { Deliver } from "@/deliver/Deliver";
import { LostBoxes } from "@/stage/Drawings";
import { Stage } from "@/stage/Stage";
import { Wall } from "@/wall/Wall";

interface Props {
  shot: number;
  project: number;
  bench: string;
  recipe: Recipe;
  /** The same, with what is being dragged. */
  followed: Recipe;
  items: Item[];
  item: string | null;
  operations: OperationRow[];
  writable: boolean;
  onTurnRound: () => void;
  onChoose: (item: string) => void;
  onCross: (a: string, b: string) => void;
  /** Change the recipe and bring the named item into focus. */
  onPut: (change: (before: Recipe) => [Recipe, string]) => void;
}

/** Wall, stage and panel of a bench, or the table of deliverables. */
export function BenchArea({
  bench,
  project,
  operations,
  recipe: calm,
  followed: recipe,
  onTurnRound,
  onChoose,
  onCross,
  ...rest
}: Props) {
  const { shot, items, item, writable, onPut } = rest;
  const common = { ...rest, recipe };
  if (bench === "deliver")
    return <Deliver shot={shot} recipe={calm} items={items} item={item} writable={writable} />;
  return (
    <>
      <Wall
        shot={shot}
        recipe={calm}
        items={items}
        item={item}
        writable={writable}
        onChoose={onChoose}
        onCross={onCross}
        onPut={onPut}
      />
      {bench === "packing" ? (
        <PackingStage
          shot={shot}
          recipe={recipe}
          items={items}
          item={item}
          writable={writable}
          onChoose={onChoose}
        />
      ) : bench === "space" ? (
        <SpaceBench {...common} operations={operations} onTurnRound={onTurnRound} />
      ) : (
        <div className="flex min-w-0 grow flex-col">
          <Stage
            shot={shot}
            recipe={recipe}
            items={items}
            item={item}
            writable={writable}
            over={(placement, onHover) =>
              bench === "passes" ? (
                <LostBoxes placement={placement} />
              ) : bench === "edges" ? (
                <EdgeTools
                  recipe={recipe}
                  items={items}
                  item={item}
                  placement={placement}
                  writable={writable}
                />
              ) : (
                <StageTools
                  recipe={recipe}
                  items={items}
                  item={item}
                  placement={placement}
                  writable={writable}
                  onHover={onHover}
                  onPut={onPut}
                />
              )
            }
          />
          {bench === "passes" && <DeskArea {...common} />}
        </div>
      )}
      {bench === "space" ? null : bench === "packing" ? (
        <PackingPanel
          {...common}
          project={project}
          operations={operations}
          onTurnRound={onTurnRound}
          onChoose={onChoose}
        />
      ) : bench === "passes" ? (
        <PassesPanel {...common} operations={operations} onTurnRound={onTurnRound} />
      ) : bench === "edges" ? (
        <EdgesPanel {...common} operations={operations} onTurnRound={onTurnRound} />
      ) : (
        <MattesPanel {...common} operations={operations} onTurnRound={onTurnRound} />
      )}
    </>
  );
}
