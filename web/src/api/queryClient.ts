import { QueryClient } from "@tanstack/react-query";

import { ApiError } from "./client";

/** What was asked of the server, kept for the whole page. */
export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      refetchOnWindowFocus: false,
      retry: (count, error) =>
        count < 2 && !(error instanceof ApiError && error.status > 0 && error.status < 500),
    },
  },
});
