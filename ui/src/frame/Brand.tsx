import { api } from "../api/client";

/** The sign and the name, in the dark bar. */
export function Brand() {
  return (
    <>
      <svg width="30" height="24" viewBox="0 0 30 24" aria-hidden="true">
        <path d="M5 22V9" stroke="#f5f3ee" strokeWidth="3" />
        <path d="M5 11L27 3" stroke="#e9833a" strokeWidth="3.4" strokeLinecap="round" />
        <circle cx="5" cy="11" r="2.6" fill="#f5f3ee" />
      </svg>
      <h1 className="name">Yard Gate</h1>
    </>
  );
}

export async function signOut() {
  await api.DELETE("/api/v1/session").catch(() => undefined);
  window.location.href = "/sign-in";
}
