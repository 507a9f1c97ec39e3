import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Problem, signIn } from "../api";
import { Told } from "../parts/Told";

interface Props {
  problem: unknown;
  says?: string;
  onDone?: () => void;
}

export function SignIn({ problem, says, onDone }: Props) {
  const [name, setName] = useState("admin");
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const enter = useMutation({
    mutationFn: () => signIn(name, password),
    onSuccess: (session) => {
      queries.setQueryData(["session"], session);
      onDone?.();
    },
  });
  const away = problem instanceof Problem && problem.code !== "signed-out" ? problem : undefined;
  return (
    <main className="grid min-h-screen place-items-center">
      <form
        className="w-80 border border-rule bg-sheet p-6"
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <h1 className="mb-4 flex items-center gap-2 text-[20px] font-semibold">
          <img src="/mark.svg" alt="" className="size-6" /> Unvora
        </h1>
        {says && <p className="mb-3">{says}</p>}
        <label className="mb-3 block">
          <span className="text-soft">Name</span>
          <input
            className="field mt-1 w-full"
            name="name"
            autoComplete="username"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="mb-4 block">
          <span className="text-soft">Password</span>
          <input
            className="field mt-1 w-full"
            name="password"
            type="password"
            autoComplete="current-password"
            autoFocus
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
        <Told problem={enter.error ?? away} />
        <button className="button-main w-full" disabled={enter.isPending}>
          Sign in
        </button>
        {!says && <p className="mt-4 text-soft">The first start of the service prints how to sign in.</p>}
      </form>
    </main>
  );
}
