/** A box to choose a row, or all of them (`mixed`: some are). */
export function Tick({
  on,
  mixed = false,
  label,
  inGrid = false,
  onTurn,
}: {
  on: boolean;
  mixed?: boolean;
  label: string;
  /** A grid has the focus and the keys itself. */
  inGrid?: boolean;
  onTurn: (range: boolean) => void;
}) {
  return (
    <button
      className={`plain tick${on ? " on" : ""}`}
      tabIndex={inGrid ? -1 : undefined}
      role="checkbox"
      aria-checked={mixed && !on ? "mixed" : on}
      aria-label={label}
      onClick={(event) => {
        event.stopPropagation();
        onTurn(event.shiftKey);
      }}
    />
  );
}
