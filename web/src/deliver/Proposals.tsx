import type { Item } from "@/api/client";
import type { Recipe } from "@/api/recipe";
import { Button } from "@/parts/Button";
import { useSmallPlanes } from "@/stage/planes";
import { SmallPicture } from "@/stage/SmallPicture";

import { type Proposal, proposalsFor } from "./proposals";

interface Props {
  shot: number;
  recipe: Recipe;
  items: Item[];
  onTake: (from: string) => void;
}

/** What the shot most likely gives away, where nothing is delivered yet: a click opens it as a new deliverable. */
export function Proposals({ shot, recipe, items, onTake }: Props) {
  const found = proposalsFor(recipe, items);
  if (!found.length) return null;
  return (
    <ul aria-label="What this shot most likely gives away" className="mt-4 flex flex-wrap gap-3">
      {found.map((proposal) => (
        <Proposed
          key={proposal.from}
          shot={shot}
          proposal={proposal}
          item={items.find((entry) => entry.name === proposal.from)}
          onTake={() => onTake(proposal.from)}
        />
      ))}
    </ul>
  );
}

interface ProposedProps {
  shot: number;
  proposal: Proposal;
  item: Item | undefined;
  onTake: () => void;
}

function Proposed({ shot, proposal, item, onTake }: ProposedProps) {
  const planes = useSmallPlanes(shot, item, proposal.from);
  return (
    <li className="w-64 rounded-sm border border-line bg-panel p-2 text-[12px]">
      <SmallPicture
        planes={planes.data}
        error={planes.error}
        label={proposal.from}
        className="aspect-video w-full !object-cover"
      />
      <div className="mt-2 flex items-center gap-2">
        <span className="min-w-0 grow">
          <span className="block text-dim">{proposal.why}</span>
          <span className="block truncate font-mono" title={proposal.from}>
            {proposal.from}
          </span>
        </span>
        <Button onClick={onTake}>Deliver it…</Button>
      </div>
    </li>
  );
}
