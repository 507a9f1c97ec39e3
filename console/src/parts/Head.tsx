import type { ReactNode } from "react";
import { Link } from "react-router";

type Props = {
  title: ReactNode;
  under?: { to: string; name: string }; // the page that this one is opened from
  says?: ReactNode; // beside the title: how much there is
  children?: ReactNode; // what can be done, at the right
};

/** The head of a page: the same height on each, so that nothing moves from one to the next. */
export function Head({ title, under, says, children }: Props) {
  return (
    <div className="mb-3 flex min-h-9 flex-wrap items-center gap-x-4 gap-y-2">
      {under && (
        <>
          <Link className="text-sea hover:underline" to={under.to}>
            {under.name}
          </Link>
          <span className="text-soft">›</span>
        </>
      )}
      <h1 className="text-[20px] font-semibold">{title}</h1>
      {says && <span className="text-soft">{says}</span>}
      {children && <span className="ml-auto" />}
      {children}
    </div>
  );
}
