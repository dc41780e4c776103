import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { lazy, Suspense } from "react";
import { Navigate, Route, Routes, useLocation, useParams } from "react-router";
import { api, ask, message, type Session } from "./api/client";
import { Frame } from "./frame/Frame";
import { SMALL } from "./parts/looks";
import { Boundary } from "./parts/Boundary";
import { PlanProvider } from "./plan/PlanContext";
import { SignIn } from "./signin/SignIn";

const Begin = lazy(() => import("./begin/Begin"));
const Board = lazy(() => import("./board/Board"));
const Needs = lazy(() => import("./needs/Needs"));
const People = lazy(() => import("./people/People"));
const Storage = lazy(() => import("./storage/Storage"));
const Directories = lazy(() => import("./directory/Directory"));
const Shares = lazy(() => import("./shares/Shares"));
const Walk = lazy(() => import("./walk/Walk"));
const Promises = lazy(() => import("./promises/Promises"));
const Rollout = lazy(() => import("./rollout/Rollout"));
const Cards = lazy(() => import("./sheets/Card"));
const Report = lazy(() => import("./sheets/Report"));
const HandOver = lazy(() => import("./sheets/HandOver"));
const Lookup = lazy(() => import("./lookup/Lookup"));
const Plans = lazy(() => import("./plans/Plans"));

export function Pages() {
  const location = useLocation();
  const session = useQuery({ queryKey: ["session"], queryFn: () => ask(api.GET("/api/v1/session")) });
  if (session.isError && !session.data) {
    return (
      <div className="door">
        <div className="sheet-card">
          <h2>Yard Gate does not answer</h2>
          <p>{message(session.error)}</p>
          <Button type="primary" onClick={() => void session.refetch()}>
            Try again
          </Button>
        </div>
      </div>
    );
  }
  if (!session.data)
    return (
      <div className="loading" role="status">
        Opening …
      </div>
    );
  if (location.pathname === "/sign-in" || !session.data.name) return <SignIn session={session.data} />;
  return (
    <Suspense
      fallback={
        <div className="loading" role="status">
          Opening …
        </div>
      }
    >
      <Routes>
        <Route path="/plans" element={<Plans session={session.data} />} />
        <Route path="/p/:plan/*" element={<OnePlan session={session.data} />} />
        <Route path="*" element={<First />} />
      </Routes>
    </Suspense>
  );
}

/** Straight to the board where there is just one plan to look at. */
function First() {
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => ask(api.GET("/api/v1/plans")) });
  if (!plans.data)
    return (
      <div className="loading" role="status">
        {plans.isError ? message(plans.error) : "Loading plans …"}
      </div>
    );
  const open = plans.data.filter((plan) => !plan.archived);
  return <Navigate replace to={open.length === 1 ? `/p/${open[0]!.id}/${matchMedia(SMALL).matches ? "look" : "board"}` : "/plans"} />;
}

/** Whatever else stands behind the plan in the address leads to the board, and where the screen is small to what can be looked up. */
function Elsewhere() {
  const { plan } = useParams();
  return <Navigate replace to={`/p/${plan}/${matchMedia(SMALL).matches ? "look" : "board"}`} />;
}

function OnePlan({ session }: { session: Session }) {
  const { plan } = useParams();
  return (
    <PlanProvider id={plan!} key={plan}>
      <Frame session={session}>
        <Boundary>
          <Suspense
            fallback={
              <div className="loading" role="status">
                Opening …
              </div>
            }
          >
            <Routes>
              <Route path="begin" element={<Begin />} />
              <Route path="board" element={<Board />} />
              <Route path="needs" element={<Needs />} />
              <Route path="people" element={<People />} />
              <Route path="directories" element={<Directories />} />
              <Route path="storage" element={<Storage />} />
              <Route path="shares" element={<Shares />} />
              <Route path="walk" element={<Walk />} />
              <Route path="promises" element={<Promises />} />
              <Route path="rollout" element={<Rollout />} />
              <Route path="card/:who" element={<Cards />} />
              <Route path="cards" element={<Cards />} />
              <Route path="report" element={<Report />} />
              <Route path="hand-over" element={<HandOver />} />
              <Route path="look" element={<Lookup />} />
              <Route path="*" element={<Elsewhere />} />
            </Routes>
          </Suspense>
        </Boundary>
      </Frame>
    </PlanProvider>
  );
}
