import { Trash2 } from "lucide-react";
import type { ReactNode } from "react";

import { Button } from "@/parts/Button";
import { TextField } from "@/parts/TextField";

interface Props {
  kind: "layout" | "finish";
  title: string;
  onRename: (title: string) => void;
  onRemove: () => void;
  children: ReactNode;
}

/** A layout or a finish of the project: its name over what it holds, and a way to remove it. */
export function OwnCard({ kind, title, onRename, onRemove, children }: Props) {
  return (
    <div
      role="group"
      aria-label={`${kind === "layout" ? "Layout" : "Finish"} ${title}`}
      className="space-y-1 rounded-sm border border-line p-2"
    >
      <div className="flex items-end gap-2">
        <div className="grow">
          <TextField label="Name" value={title} onChange={(event) => onRename(event.target.value)} />
        </div>
        <Button quiet aria-label={`Remove ${kind} ${title}`} onClick={onRemove}>
          <Trash2 size={12} />
        </Button>
      </div>
      {children}
    </div>
  );
}
