import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { FormEvent, ReactNode } from "react";
import {
  addUser,
  changeUser,
  dropToken,
  dropUser,
  endSession,
  makeToken,
  sessionQuery,
  sessionsQuery,
  tokensQuery,
  usersQuery,
} from "../api";
import type { Role, Schemas } from "../api";
import { ago, exact } from "../format";
import { Head } from "../parts/Head";
import { Confirm } from "../parts/Confirm";
import { Field, Named } from "../parts/Field";
import { Id } from "../parts/Id";
import { Table } from "../parts/Table";
import { Told } from "../parts/Told";

const roles: [Role, string][] = [
  ["viewer", "viewer: looks"],
  ["operator", "operator: works with machines"],
  ["administrator", "administrator: all of it"],
];

/** Works on people, and asks for all of them anew afterwards. */
function useChange<T>(change: (value: T) => Promise<unknown>, done?: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: async () => {
      done?.();
      await queries.invalidateQueries({ queryKey: ["people"] });
    },
  });
}

/** Whoever is signed in: password, sessions, tokens; for administrators everybody. */
export function Account() {
  const { data: me } = useQuery(sessionQuery);
  if (!me) return null;
  const administrator = me.role === "administrator";
  return (
    <>
      <Head title={me.user} says={me.role} />
      <div className="grid max-w-5xl gap-6">
        <Password user={me.user} />
        <Sessions all={administrator} />
        <Tokens all={administrator} />
        {administrator && <People me={me.user} />}
      </div>
    </>
  );
}

function Section({ name, children }: { name: string; children: ReactNode }) {
  return (
    <section aria-label={name}>
      <h2 className="mb-1 text-[16px] font-semibold">{name}</h2>
      {children}
    </section>
  );
}

function Form({ onSend, children }: { onSend: () => void; children: ReactNode }) {
  return (
    <form
      className="flex flex-wrap items-end gap-x-4 gap-y-2 py-1"
      onSubmit={(e: FormEvent) => {
        e.preventDefault();
        onSend();
      }}
    >
      {children}
    </form>
  );
}

function Password({ user }: { user: string }) {
  const [current, setCurrent] = useState("");
  const [password, setPassword] = useState("");
  const change = useChange(
    () => changeUser(user, { current, password }),
    () => {
      setCurrent("");
      setPassword("");
    },
  );
  return (
    <Section name="Password">
      <Form onSend={() => change.mutate(undefined)}>
        <Field name="Present password" type="password" look="w-56" value={current} set={setCurrent} />
        <Field name="New password, 10 signs or more" type="password" look="w-56" value={password} set={setPassword} />
        <button className="button" disabled={change.isPending || current === "" || password.length < 10}>
          Change it
        </button>
        {change.isSuccess && (
          <span role="status" className="pb-1">
            It is changed. Your other sessions are over.
          </span>
        )}
      </Form>
      <Told problem={change.error} />
    </Section>
  );
}

function Sessions({ all }: { all: boolean }) {
  const { data, error } = useQuery(sessionsQuery(all));
  const end = useChange(endSession);
  return (
    <Section name="Signed in to the console">
      <Table
        label="Sessions"
        items={data ?? []}
        keyOf={(s) => s.id}
        columns={[
          { head: "Who", look: "pr-4 font-semibold", cell: (s) => s.user },
          { head: "From", look: "mono pr-4", cell: (s) => s.place },
          { head: "Since", look: "pr-4", cell: (s) => <span title={exact(s.createdAt)}>{ago(s.createdAt)}</span> },
          {
            head: "Browser",
            width: "minmax(0,1fr)",
            look: "min-w-0 truncate pr-4 text-soft",
            cell: (s) => <span title={s.browser}>{s.browser}</span>,
          },
          {
            cell: (s) =>
              s.here ? (
                <span className="text-soft">this one</span>
              ) : (
                <button
                  className="button"
                  aria-label={`End the session from ${s.place}`}
                  onClick={() => end.mutate(s.id)}
                >
                  End it
                </button>
              ),
          },
        ]}
      />
      <Told problem={error ?? end.error} />
    </Section>
  );
}

function Tokens({ all }: { all: boolean }) {
  const { data, error } = useQuery(tokensQuery(all));
  const [name, setName] = useState("");
  const [days, setDays] = useState("90");
  const [made, setMade] = useState("");
  const add = useChange(
    async () => setMade((await makeToken(name, Number(days) || 90)).token),
    () => setName(""),
  );
  const drop = useChange(dropToken);
  const ends = (t: Schemas["Token"]) => {
    if (!t.expiresAt) return "never";
    return Date.parse(t.expiresAt) < Date.now() ? "it has ended" : exact(t.expiresAt);
  };
  return (
    <Section name="Tokens, for scripts and the client">
      {data?.length === 0 && <p className="text-soft">None yet.</p>}
      {data && data.length > 0 && (
        <Table
          label="Tokens"
          items={data}
          keyOf={(t) => t.id}
          columns={[
            { head: "Name", look: "pr-4 font-semibold", cell: (t) => t.name },
            { head: "Of", look: "pr-4", cell: (t) => t.user },
            { head: "Made", look: "pr-4", cell: (t) => ago(t.createdAt) },
            { head: "Last used", look: "pr-4", cell: (t) => (t.usedAt ? ago(t.usedAt) : "never") },
            { head: "Ends", width: "1fr", look: "pr-4 text-soft", cell: ends },
            {
              look: "flex flex-wrap justify-end gap-2",
              cell: (t) => (
                <Confirm
                  name="Revoke"
                  says={`Whatever uses ${t.name} can do nothing any more.`}
                  does="Revoke it"
                  onDo={() => drop.mutate(t.id)}
                />
              ),
            },
          ]}
        />
      )}
      <Form onSend={() => add.mutate(undefined)}>
        <Field name="Name of a new one" hint="nightly-export" look="w-56" value={name} set={setName} />
        <Field name="Days until it ends" type="number" look="w-28" most={3650} value={days} set={setDays} />
        <button className="button" disabled={add.isPending || name === ""}>
          Make it
        </button>
      </Form>
      {made && (
        <p role="status">
          It is shown only this once: <Id value={made} />
        </p>
      )}
      <Told problem={error ?? add.error ?? drop.error} />
    </Section>
  );
}

function People({ me }: { me: string }) {
  const { data, error } = useQuery(usersQuery);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [role, setRole] = useState<Role>("operator");
  const add = useChange(
    () => addUser({ name, password, role }),
    () => {
      setName("");
      setPassword("");
    },
  );
  const change = useChange((to: { user: string; role: Role }) => changeUser(to.user, { role: to.role }));
  const drop = useChange(dropUser);
  return (
    <Section name="People who may sign in">
      <Table
        label="People"
        items={data ?? []}
        keyOf={(u) => u.id}
        columns={[
          { head: "Name", look: "pr-4 font-semibold", cell: (u) => u.name },
          {
            head: "Role",
            width: "1fr",
            look: "pr-4",
            cell: (u) => (
              <select
                aria-label={`Role of ${u.name}`}
                className="field"
                value={u.role}
                onChange={(e) => change.mutate({ user: u.name, role: e.target.value as Role })}
              >
                {roles.map(([r, says]) => (
                  <option key={r} value={r}>
                    {says}
                  </option>
                ))}
              </select>
            ),
          },
          {
            look: "flex flex-wrap justify-end gap-2",
            cell: (u) =>
              u.name !== me && (
                <Confirm
                  name="End"
                  says={`${u.name} is signed out everywhere, and all tokens of theirs are revoked.`}
                  does={`End ${u.name}`}
                  onDo={() => drop.mutate(u.name)}
                />
              ),
          },
        ]}
      />
      <Form onSend={() => add.mutate(undefined)}>
        <Field name="Name of a new one" hint="robin" look="w-40" value={name} set={setName} />
        <Field name="First password, 10 signs or more" type="password" look="w-56" value={password} set={setPassword} />
        <Named name="Role">
          <select className="field" value={role} onChange={(e) => setRole(e.target.value as Role)}>
            {roles.map(([r, says]) => (
              <option key={r} value={r}>
                {says}
              </option>
            ))}
          </select>
        </Named>
        <button className="button" disabled={add.isPending || name === "" || password.length < 10}>
          Let them sign in
        </button>
      </Form>
      <Told problem={error ?? add.error ?? change.error ?? drop.error} />
    </Section>
  );
}
