import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";

/**
 * A list of things to do, one of which is done when it is chosen: by a click or
 * by Enter, never while somebody only looks through it by keyboard.
 */
export function Choose({
  name,
  prompt,
  of,
}: {
  name: string;
  prompt: string;
  of: { text: string; act: () => void }[];
}) {
  return (
    <Menu>
      <MenuButton aria-label={`${name}: ${prompt}`} className="field">
        {prompt}
      </MenuButton>
      <MenuItems anchor="bottom start" className="z-50 max-h-80 border border-rule bg-sheet outline-none">
        {of.map(({ text, act }) => (
          <MenuItem key={text}>
            <button className="block w-full cursor-pointer px-3 py-1 text-left data-focus:bg-chart" onClick={act}>
              {text}
            </button>
          </MenuItem>
        ))}
      </MenuItems>
    </Menu>
  );
}
