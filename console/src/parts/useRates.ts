import { useEffect, useRef, useState } from "react";

/** What a rate was, second by second, for as long as it is watched: the last ones, each with its time in seconds. */
export function useRates(rate: number, most: number, going = true) {
  const [rates, setRates] = useState<{ at: number; rate: number }[]>([]);
  const now = useRef(rate); // it may change more often than once a second
  useEffect(() => {
    now.current = rate;
  }, [rate]);
  useEffect(() => {
    if (!going) return;
    const timer = setInterval(
      () => setRates((r) => [...r, { at: Date.now() / 1000, rate: now.current }].slice(-most)),
      1000,
    );
    return () => clearInterval(timer);
  }, [going, most]);
  return rates;
}
