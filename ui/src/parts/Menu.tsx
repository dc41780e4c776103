import { Button, Dropdown, type MenuProps } from "antd";
import type { ReactElement } from "react";

/** A button that opens acts. By keyboard the first has the focus, and the key that chooses one presses nothing else. */
export function Menu({
  items,
  onChoose,
  children,
}: {
  items: MenuProps["items"];
  onChoose: (key: string) => void;
  children: ReactElement;
}) {
  return (
    <Dropdown
      trigger={["click"]}
      autoFocus
      transitionName="" // while a menu fades, the Escape meant for a dialog it opened would go to the menu
      menu={{
        items,
        onClick: ({ key, domEvent }) => {
          domEvent.preventDefault(); // or the same Enter would press what gets the focus in a dialog
          onChoose(key);
        },
      }}
    >
      {children}
    </Dropdown>
  );
}

export interface Choice {
  words: string;
  act: () => void;
  danger?: boolean;
  disabled?: boolean;
}

/** Acts of one kind; where there is none the button is not there. */
export function MenuButton({ words, choices }: { words: string; choices: Choice[] }) {
  if (choices.length === 0) return null;
  return (
    <Menu
      items={choices.map((one) => ({ key: one.words, label: one.words, danger: one.danger, disabled: one.disabled }))}
      onChoose={(key) => choices.find((one) => one.words === key)!.act()}
    >
      <Button size="small">{words} ▾</Button>
    </Menu>
  );
}
