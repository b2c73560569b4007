import { useState } from "react";
import { api, ask } from "../data/client";
import { useAct } from "../data/queries";
import { Button, Trouble } from "../ui/parts";

export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useAct(() => ask(api.POST("/sign-in", { body: { name, password } })));
  const field = "mt-1 mb-3 block h-8 w-full rounded-sm border border-hair bg-leaf px-2";
  return (
    <main className="mx-auto mt-28 w-80">
      <h1 className="mb-1 flex items-center gap-2">
        <img src="/icon.svg" alt="" className="size-7" /> Twinning
      </h1>
      <p className="mb-5 text-soft">People on the left, accounts on the right.</p>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate(undefined);
        }}
      >
        <label className="block">
          Name
          <input className={field} value={name} onChange={(e) => setName(e.target.value)} autoComplete="username" />
        </label>
        <label className="block">
          Password
          <input
            className={field}
            type="password"
            value={password}
            onChange={(e) => setPassword(e.target.value)}
            autoComplete="current-password"
          />
        </label>
        {enter.error && <Trouble error={enter.error} />}
        <Button type="submit" tone="main" disabled={!name || !password || enter.isPending}>
          Sign in
        </Button>
      </form>
    </main>
  );
}
