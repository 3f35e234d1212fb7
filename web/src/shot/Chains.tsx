import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { Waiting } from "@/parts/Waiting";
import { useAttempt } from "@/parts/useAttempt";
import { wordsOf } from "@/steps/schema";

import { type ChainRow, chainsKey, useChains } from "./chains";

interface Props {
  project: number;
  writable: boolean;
  onUse: (chain: ChainRow) => void;
  onClose: () => void;
}

const FIELD = "h-6 w-full rounded-sm border border-line bg-raised px-2";

/** The kept chains of the project: put to use here, called otherwise, or kept no longer. */
export function Chains({ project, writable, onUse, onClose }: Props) {
  const client = useQueryClient();
  const found = useChains(project);
  const [changing, setChanging] = useState<ChainRow | null>(null);
  /** The chain that a second click takes out. */
  const [dropping, setDropping] = useState<number | null>(null);
  const { problem, attempt } = useAttempt(() => client.invalidateQueries({ queryKey: chainsKey(project) }));
  const path = (chain: ChainRow) => ({ path: { project_id: project, chain_id: chain.id } });
  const change = async () => {
    if (!changing) return;
    const { name, about } = changing;
    const done = await attempt(() =>
      got(
        api.PUT("/api/projects/{project_id}/chains/{chain_id}", {
          params: path(changing),
          body: { name, about },
        }),
      ),
    );
    if (done) setChanging(null);
  };
  return (
    <Modal title="Kept chains" open onClose={onClose} width={560}>
      {problem && <Message problem={problem} />}
      {found.isError && <Message problem={problemOf(found.error)} />}
      {found.isPending && <Waiting text="Fetching the chains" />}
      {found.data?.length === 0 && (
        <p className="text-dim">
          None yet. The menu of a step in the lineage keeps it, with the steps that it needs, under a name.
        </p>
      )}
      <ul aria-label="Chains" className="divide-y divide-line text-[12px]">
        {found.data?.map((chain) => (
          <li key={chain.id} data-chain={chain.name} className="flex items-start gap-3 py-2">
            {changing?.id === chain.id ? (
              <form
                className="grow space-y-1.5"
                onSubmit={(event) => {
                  event.preventDefault();
                  void change();
                }}
              >
                <input
                  autoFocus
                  aria-label="Name of the chain"
                  value={changing.name}
                  maxLength={120}
                  onChange={(event) => setChanging({ ...changing, name: event.target.value })}
                  className={FIELD}
                />
                <input
                  aria-label="What it is for"
                  value={changing.about}
                  maxLength={300}
                  onChange={(event) => setChanging({ ...changing, about: event.target.value })}
                  className={FIELD}
                />
                <div className="flex justify-end gap-1.5">
                  <Button onClick={() => setChanging(null)}>Cancel</Button>
                  <Button type="submit" disabled={!changing.name.trim()}>
                    Change
                  </Button>
                </div>
              </form>
            ) : (
              <>
                <div className="min-w-0 grow">
                  <p className="break-words font-medium">{chain.name}</p>
                  {chain.about && <p className="break-words text-dim">{chain.about}</p>}
                  <p className="break-words font-mono text-[11px] text-faint">
                    {chain.steps.map((step) => wordsOf(step.op).toLowerCase()).join(", ")}
                  </p>
                </div>
                {writable && (
                  <div className="flex shrink-0 gap-1.5">
                    <Button onClick={() => onUse(chain)}>Put to use</Button>
                    <Button onClick={() => setChanging(chain)}>Rename</Button>
                    <Button
                      title="Shots that it was put to use on stay as they are"
                      className={dropping === chain.id ? "text-ember" : ""}
                      onBlur={() => setDropping(null)}
                      onClick={() =>
                        dropping !== chain.id
                          ? setDropping(chain.id)
                          : void attempt(() =>
                              got(
                                api.DELETE("/api/projects/{project_id}/chains/{chain_id}", {
                                  params: path(chain),
                                }),
                              ),
                            )
                      }
                    >
                      {dropping === chain.id ? "Really, for everybody" : "Keep no longer"}
                    </Button>
                  </div>
                )}
              </>
            )}
          </li>
        ))}
      </ul>
    </Modal>
  );
}
