import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Suspense, useEffect, useState } from "react";
import { NavLink, Navigate, Route, Routes, useLocation, useNavigate } from "react-router";
import { figureOf, onEnded, sessionQuery, signOut, waitingQuery } from "./api";
import { useEvents } from "./events";
import { Bring } from "./bring";
import { pages } from "./pages";
import { ImportSheet } from "./pages/ImportSheet";
import { SignIn } from "./pages/SignIn";
import { Fault } from "./parts/Fault";
import { Find } from "./parts/Find";
import { KeyList } from "./parts/KeyList";
import { Troubles } from "./parts/Troubles";

export function App() {
  const session = useQuery(sessionQuery);
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  useEffect(() => onEnded(() => setEnded(true)), []);
  if (session.isPending) return null;
  if (!session.data) return <SignIn problem={session.error} />;
  return (
    <>
      <Shell user={session.data.user} />
      {ended && (
        <div className="fixed inset-0 z-50 overflow-auto bg-paper/90" role="dialog" aria-label="Sign in again">
          <SignIn
            problem={undefined}
            says="Your session is over. Sign in to go on where you were."
            onDone={() => {
              setEnded(false);
              void queries.invalidateQueries();
            }}
          />
        </div>
      )}
    </>
  );
}

// A page in the navigation: the one that is open, and the others.
const here = "border-sea text-sea";
const elsewhere = "border-transparent text-soft hover:text-ink";

function Shell({ user }: { user: string }) {
  useEvents();
  const { pathname } = useLocation();
  const queries = useQueryClient();
  const waiting = figureOf(useQuery(waitingQuery).data ?? []);
  const { file, over, open, clear } = useDroppedFile();
  const leave = async () => {
    await signOut();
    queries.clear();
    await queries.invalidateQueries();
  };
  return (
    <div className="flex min-h-screen flex-col">
      <header className="flex flex-wrap items-center gap-x-6 border-b border-rule bg-sheet px-6">
        <NavLink to="/lineages" className="flex items-center gap-2 py-2 text-[17px] font-semibold">
          <img src="/mark.svg" alt="" className="size-5" />
          Unvora
        </NavLink>
        <nav className="-mx-3 flex flex-wrap" aria-label="Pages">
          {pages.map(
            ({ path, name }) =>
              name && (
                <NavLink
                  key={path}
                  to={`/${path}`}
                  className={({ isActive }) => `border-b-2 px-3 py-2.5 font-semibold ${isActive ? here : elsewhere}`}
                >
                  {name}
                  {name === "Attention" && waiting.sum > 0 && (
                    <span className="mono ml-1.5 rounded-sm bg-buoy px-1 text-onsea">
                      {waiting.sum}
                      {waiting.more}
                    </span>
                  )}
                </NavLink>
              ),
          )}
        </nav>
        <span className="ml-auto" />
        <Find />
        <KeyList />
        <NavLink to="/account" className="font-semibold hover:text-sea" title="Password, sessions, tokens, people">
          {user}
        </NavLink>
        <button className="text-sea hover:underline" onClick={() => void leave()}>
          Sign out
        </button>
      </header>
      <main className="flex grow flex-col px-6 py-4">
        <Troubles />
        <Fault at={pathname}>
          <Bring.Provider value={open}>
            <Suspense fallback={<p className="text-soft">Opening …</p>}>
              <Routes>
                {pages.map(({ path, Page }) => (
                  <Route key={path} path={`/${path}`} element={<Page />} />
                ))}
                <Route path="*" element={<Navigate to="/lineages" replace />} />
              </Routes>
            </Suspense>
          </Bring.Provider>
        </Fault>
      </main>
      {over && (
        <div className="pointer-events-none fixed inset-0 z-40 grid place-items-center border-4 border-sea bg-chart/80">
          <p className="text-[20px] font-semibold">Let go to see what bringing it in would do</p>
        </div>
      )}
      {file && <ImportSheet file={file} onClose={clear} />}
    </div>
  );
}

/** The file that was dropped on the page last, and whether one hovers over it. */
function useDroppedFile() {
  const [file, setFile] = useState<File>();
  const [over, setOver] = useState(false);
  const navigate = useNavigate();
  useEffect(() => {
    const drag = (e: DragEvent) => {
      if (!e.dataTransfer?.types.includes("Files")) return;
      e.preventDefault();
      setOver(true);
    };
    const leave = (e: DragEvent) => {
      if (!e.relatedTarget) setOver(false);
    };
    const drop = (e: DragEvent) => {
      e.preventDefault();
      setOver(false);
      const dropped = e.dataTransfer?.files[0];
      if (dropped) setFile(dropped);
    };
    window.addEventListener("dragover", drag);
    window.addEventListener("dragleave", leave);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragover", drag);
      window.removeEventListener("dragleave", leave);
      window.removeEventListener("drop", drop);
    };
  }, []);
  const clear = (started: boolean) => {
    setFile(undefined);
    if (started) void navigate("/jobs");
  };
  return { file, over, open: setFile, clear };
}
