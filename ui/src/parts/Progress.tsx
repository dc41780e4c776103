/** How far something is: a share from 0 to 1. */
export function Progress({ share }: { share: number }) {
  return (
    <div
      className="bar"
      role="progressbar"
      aria-label="How far it is"
      aria-valuenow={Math.round(share * 100)}
      aria-valuemin={0}
      aria-valuemax={100}
    >
      <i style={{ width: `${share * 100}%` }} />
    </div>
  );
}
