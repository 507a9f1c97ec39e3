import { createContext } from "react";

/** Brings a package of this computer in. */
export const Bring = createContext<(file: File) => void>(() => {});
