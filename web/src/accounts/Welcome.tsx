import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate, useParams } from "react-router";

import { api, got, problemOf } from "@/api/client";
import { Button } from "@/parts/Button";
import { Message } from "@/parts/Message";
import { useAttempt } from "@/parts/useAttempt";
import { Waiting } from "@/parts/Waiting";

import { NewPassword, unlike } from "./NewPassword";

/** Where a link leads by which somebody chooses their password. */
export function Welcome() {
  const { person, token } = useParams();
  const params = { path: { person_id: Number(person), token: token ?? "" } };
  const client = useQueryClient();
  const navigate = useNavigate();
  const invited = useQuery({
    queryKey: ["welcome", person, token],
    queryFn: async () => {
      // The token that a changing request carries comes with the session.
      await got(api.GET("/api/session"));
      return got(api.GET("/api/welcome/{person_id}/{token}", { params }));
    },
    retry: false,
    staleTime: Infinity,
  });
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const { problem, attempt } = useAttempt();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    void attempt(async () => {
      const session = await got(api.POST("/api/welcome/{person_id}/{token}", { params, body: { password } }));
      client.clear();
      client.setQueryData(["session"], session);
      void navigate("/projects", { replace: true });
    });
  };
  return (
    <main className="mx-auto max-w-sm p-10">
      <h1 className="mb-4 text-[16px] font-semibold">
        {invited.data ? `Welcome, ${invited.data.name}` : "Welcome"}
      </h1>
      {invited.isPending && <Waiting text="Looking at your link" />}
      {invited.isError && <Message problem={problemOf(invited.error)} />}
      {invited.data && (
        <form onSubmit={submit} className="space-y-3">
          <p className="text-dim">
            You sign in as <span className="font-mono text-text">{invited.data.username}</span>. Choose your
            password.
          </p>
          <input type="text" autoComplete="username" value={invited.data.username} readOnly hidden />
          <NewPassword
            label="Password, 8 letters at least"
            again="Once more"
            value={password}
            repeated={again}
            autoFocus
            onChange={setPassword}
            onRepeat={setAgain}
          />
          {unlike(password, again) && (
            <p role="status" className="text-[12px] text-clay">
              The two are not the same yet.
            </p>
          )}
          {problem && <Message problem={problem} />}
          <Button main type="submit" disabled={!password || password !== again}>
            Choose it
          </Button>
        </form>
      )}
    </main>
  );
}
