import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";

import { type Problem, api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { TextField } from "@/parts/TextField";

/** The way in. */
export function SignIn() {
  const [username, setUsername] = useState("");
  const [password, setPassword] = useState("");
  const [problem, setProblem] = useState<Problem | null>(null);
  const [busy, setBusy] = useState(false);
  const navigate = useNavigate();
  const client = useQueryClient();
  const next = useSearchParams()[0].get("next");

  const submit = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    try {
      const session = await got(api.POST("/api/session", { body: { username, password } }));
      client.clear();
      client.setQueryData(["session"], session);
      void navigate(next?.startsWith("/") && !next.startsWith("//") ? next : "/projects", { replace: true });
    } catch (error) {
      setProblem(problemOf(error));
    } finally {
      setBusy(false);
    }
  };
  return (
    <main className="grid h-full grid-cols-[1fr_360px] bg-well max-md:grid-cols-1">
      <div className="flex items-end overflow-hidden p-10 max-md:hidden" aria-hidden>
        <Skylines />
      </div>
      <form
        onSubmit={(event) => void submit(event)}
        className="flex flex-col justify-center gap-4 border-l border-line bg-panel p-8"
      >
        <div className="mb-2">
          <h1 className="flex items-center gap-2 text-[20px] font-semibold tracking-[0.14em]">
            <img src="/static/mark.svg" alt="" className="h-6 w-6" /> NEXAL
          </h1>
          <p className="mt-1 text-dim">Mattes and alpha from colour channels, with the real numbers.</p>
        </div>
        {problem && <Message problem={problem} />}
        <TextField
          label="Name"
          name="username"
          autoComplete="username"
          autoFocus
          required
          value={username}
          onChange={(event) => setUsername(event.target.value)}
        />
        <TextField
          label="Password"
          name="password"
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
        />
        <Button main type="submit" disabled={busy} className="h-8">
          {busy ? "Signing in" : "Sign in"}
        </Button>
      </form>
    </main>
  );
}

/** Four skylines of made-up channels, drawn once. */
function Skylines() {
  const rows: [string, number, number][] = [
    ["stroke-red", 0.32, 0.11],
    ["stroke-green", 0.58, 0.08],
    ["stroke-blue", 0.24, 0.16],
    ["stroke-alpha", 0.86, 0.05],
  ];
  return (
    <svg viewBox="0 0 480 220" className="w-full opacity-80">
      {rows.map(([stroke, middle, spread], row) => (
        <path
          key={stroke}
          className={stroke}
          strokeWidth={1.6}
          d={Array.from({ length: 120 }, (_, index) => {
            const x = (index + 0.5) / 120;
            const height =
              34 * Math.exp(-(((x - middle) / spread) ** 2) / 2) +
              7 * Math.exp(-(((x - 0.7) / 0.2) ** 2)) * (0.6 + 0.4 * Math.sin(index * 1.7 + row));
            return `M${index * 4 + 2} ${row * 54 + 50}v${-Math.max(1, height).toFixed(1)}`;
          }).join("")}
        />
      ))}
    </svg>
  );
}
