import { useState } from "react";

type Props = {
  name: string; // on the button that asks
  says: string; // what happens, and what does not
  does: string; // on the button that does it
  onDo: () => void;
};

/** Something that can't be taken back is asked about once more, beside its button. */
export function Confirm({ name, says, does, onDo }: Props) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <button className="button" aria-expanded={asking} onClick={() => setAsking(!asking)}>
        {name} …
      </button>
      {asking && (
        <p className="order-last flex basis-full items-center gap-3 border-l-4 border-buoy bg-sheet px-3 py-1.5">
          {says}
          <button
            className="button-main"
            onClick={() => {
              setAsking(false);
              onDo();
            }}
          >
            {does}
          </button>
        </p>
      )}
    </>
  );
}
