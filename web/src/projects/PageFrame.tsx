import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link, useNavigate } from "react-router";

import { api } from "@/api/client";
import { useSession } from "@/api/queries";
import { You } from "@/accounts/You";
import { toggleTheme } from "@/app/theme";
import { useHelp } from "@/help/helpState";
import { Button } from "@/parts/Button";
import { Mark } from "@/parts/Mark";

/** The frame of the pages before a shot. */
export function PageFrame({ trail, children }: { trail: ReactNode; children: ReactNode }) {
  const person = useSession().data?.person;
  const show = useHelp((state) => state.show);
  const navigate = useNavigate();
  const client = useQueryClient();
  const [own, setOwn] = useState(false);
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-10 shrink-0 items-center gap-4 border-b border-line bg-panel px-3 text-[12px]">
        <Mark />
        <nav aria-label="Where" className="grow truncate text-dim">
          {trail}
        </nav>
        {person?.administrator && (
          <Link
            to="/people"
            className="text-dim hover:text-text"
            title="Accounts, and what was done about them"
          >
            People
          </Link>
        )}
        <Button quiet title="Jobs, keys and steps, searched" onClick={() => show()}>
          Help
        </Button>
        <Button quiet title="Your name and password" onClick={() => setOwn(true)}>
          {person?.name}
        </Button>
        <Button onClick={toggleTheme}>Bright or dark</Button>
        <Button
          onClick={() =>
            void api.DELETE("/api/session").then(() => {
              client.clear();
              void navigate("/sign-in");
            })
          }
        >
          Sign out
        </Button>
      </header>
      <main className="min-h-0 grow overflow-y-auto bg-well p-6">{children}</main>
      {own && <You onClose={() => setOwn(false)} />}
    </div>
  );
}
