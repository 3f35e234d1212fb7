import type { ReactNode } from "react";

import type { Problem } from "@/api/client";

/** What is wrong, where, and what to do; `warning` where work can go on. */
export function Message({
  problem,
  kind = "error",
  children,
}: {
  problem: Problem;
  kind?: "error" | "warning";
  children?: ReactNode;
}) {
  const colour = kind === "error" ? "border-ember text-ember" : "border-clay text-clay";
  return (
    <div role="alert" className={`border-l-2 bg-raised px-3 py-2 text-[12px] ${colour.split(" ")[0]}`}>
      <p className={colour.split(" ")[1]}>
        {problem.where && <span className="font-medium">{problem.where}: </span>}
        {problem.message}
      </p>
      {problem.also?.map((line) => (
        <p key={line} className="mt-1 text-dim">
          {line}
        </p>
      ))}
      {problem.remedy && <p className="mt-1 text-dim">{capital(problem.remedy)}.</p>}
      {children}
    </div>
  );
}

function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}
