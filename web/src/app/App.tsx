import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { useEffect } from "react";
import { Navigate, Outlet, createBrowserRouter, useLocation } from "react-router";
// The one for browsers: the other takes no notice of what is to be drawn at once.
import { RouterProvider } from "react-router/dom";

import { People } from "@/accounts/People";
import { SignIn } from "@/accounts/SignIn";
import { Welcome } from "@/accounts/Welcome";
import { ApiError } from "@/api/client";
import { useSession } from "@/api/queries";
import { queries } from "@/api/queryClient";
import { HelpPlace } from "@/help/HelpPlace";
import { Message } from "@/parts/Message";
import { Waiting } from "@/parts/Waiting";
import { Projects } from "@/projects/Projects";
import { Shots } from "@/projects/Shots";
import { ShotPage } from "@/shot/ShotPage";

import { Boundary, Fault } from "./Fault";

/** Everything behind the sign-in. */
function Inside() {
  const session = useSession();
  const location = useLocation();
  // A session that ended elsewhere shows as a refusal: ask again who we are.
  useEffect(() => {
    return queries.getQueryCache().subscribe((event) => {
      const error = event.query.state.error;
      if (error instanceof ApiError && error.status === 401 && session.data?.person)
        void queries.invalidateQueries({ queryKey: ["session"] });
    });
  }, [session.data]);
  if (session.isPending) return <Waiting text="Opening Nexal" />;
  if (session.isError)
    return (
      <main className="mx-auto max-w-md p-10">
        <Message problem={(session.error as ApiError).problem} />
      </main>
    );
  if (!session.data.person)
    return (
      <Navigate replace to={`/sign-in?next=${encodeURIComponent(location.pathname + location.search)}`} />
    );
  return (
    <>
      <Outlet />
      <HelpPlace />
    </>
  );
}

function Nowhere() {
  return (
    <main className="mx-auto max-w-md p-10">
      <Message
        problem={{
          code: "not_found",
          message: "there is no page at this address",
          where: "",
          remedy: "go back, or start from /projects",
        }}
      />
    </main>
  );
}

const router = createBrowserRouter([
  { path: "/welcome/:person/:token", element: <Welcome />, errorElement: <Fault /> },
  { path: "/sign-in", element: <SignIn />, errorElement: <Fault /> },
  {
    element: <Inside />,
    errorElement: <Fault />,
    children: [
      { path: "/", element: <Navigate replace to="/projects" /> },
      { path: "/projects", element: <Projects /> },
      { path: "/projects/:project", element: <Shots /> },
      { path: "/people", element: <People /> },
      { path: "/shots/:shot", element: <ShotPage /> },
    ],
  },
  { path: "*", element: <Nowhere /> },
]);

export function App() {
  return (
    <Boundary>
      <QueryClientProvider client={queries}>
        <Tooltip.Provider delayDuration={500}>
          <RouterProvider router={router} />
        </Tooltip.Provider>
      </QueryClientProvider>
    </Boundary>
  );
}
