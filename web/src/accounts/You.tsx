import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, got } from "@/api/client";
import { useSession } from "@/api/queries";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { Modal } from "@/parts/Modal";
import { TextField } from "@/parts/TextField";
import { useAttempt } from "@/parts/useAttempt";

import { Places } from "./Places";
import { NewPassword, unlike } from "./NewPassword";

/** One's own name, as others see it, and password. */
export function You({ onClose }: { onClose: () => void }) {
  const person = useSession().data?.person;
  const client = useQueryClient();
  const [name, setName] = useState(person?.name ?? "");
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const [done, setDone] = useState("");
  const { problem, attempt } = useAttempt(() => client.invalidateQueries({ queryKey: ["session"] }));
  const send = (event: FormEvent, work: () => Promise<string>) => {
    event.preventDefault();
    setDone("");
    void attempt(async () => setDone(await work()));
  };
  const keepName = async () => {
    await got(api.PUT("/api/session/name", { body: { name } }));
    return "Your name is changed.";
  };
  const keepPassword = async () => {
    await got(api.PUT("/api/session/password", { body: { old, new: fresh } }));
    await client.invalidateQueries({ queryKey: ["places"] });
    setOld("");
    setFresh("");
    setAgain("");
    return "Your password is changed; wherever else you were signed in, you are not any more.";
  };
  const differ = unlike(fresh, again);
  return (
    <Modal title={person?.username ?? "You"} open onClose={onClose} width={420}>
      <form onSubmit={(event) => send(event, keepName)} className="mb-4 flex items-end gap-2">
        <div className="grow">
          <TextField
            label="Your name, as others see it"
            autoComplete="name"
            required
            maxLength={150}
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </div>
        <Button type="submit" disabled={!name.trim() || name === person?.name}>
          Keep
        </Button>
      </form>
      <form onSubmit={(event) => send(event, keepPassword)} className="space-y-3 border-t border-line pt-3">
        <input type="text" autoComplete="username" value={person?.username ?? ""} readOnly hidden />
        <TextField
          label="Password until now"
          type="password"
          autoComplete="current-password"
          required
          value={old}
          onChange={(event) => setOld(event.target.value)}
        />
        <NewPassword
          label="New password, 8 letters at least"
          again="The new one again"
          value={fresh}
          repeated={again}
          onChange={setFresh}
          onRepeat={setAgain}
        />
        <p role="status" className={`min-h-4 text-[12px] ${differ ? "text-clay" : "text-dim"}`}>
          {differ ? "The two are not the same yet." : done}
        </p>
        {problem && <Message problem={problem} />}
        <div className="flex justify-end">
          <Button main type="submit" disabled={!old || !fresh || fresh !== again}>
            Change the password
          </Button>
        </div>
      </form>
      <Places />
    </Modal>
  );
}
