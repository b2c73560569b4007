import { useRouteError } from "react-router";

/** What stands in place of a page that could not be drawn. */
export function BrokenPage() {
  const error = useRouteError();
  return (
    <main className="p-6">
      <h1>This page could not be drawn</h1>
      <p className="my-2">
        {error instanceof Error ? error.message : String(error)}. Nothing was changed by it. Reload the page; if it stays so, the{" "}
        <a href="/" className="underline underline-offset-2">
          lanes
        </a>{" "}
        are on the first page.
      </p>
    </main>
  );
}
