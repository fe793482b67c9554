// The shell: who is signed in, where one is, the theme, and the addresses of all screens.
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, Navigate, Route, Routes, useParams } from "react-router";
import { ApiError, get, keepCsrf, type Model, remove } from "./api/client";
import { BriefScreen, NewSiteScreen } from "./brief/brief-screen";
import { CallScreen } from "./call/call-screen";
import { CompareScreen } from "./compare/compare-screen";
import { CodecValuesScreen } from "./engagement/codec-values-screen";
import { EngagementScreen } from "./engagement/engagement-screen";
import { EngagementsScreen } from "./engagement/engagements-screen";
import { ImportScreen } from "./imports/import-screen";
import { ImportsScreen } from "./imports/imports-screen";
import { JoinScreen } from "./join/join-screen";
import { LoadScreen } from "./load/load-screen";
import { PlaceScreen } from "./place/place-screen";
import { ReportScreen } from "./report/report-screen";
import { RunScreen } from "./run/run-screen";
import { SeriesScreen } from "./series/series-screen";
import { Button, Note } from "./shared/controls";
import { KeyHelp } from "./shared/keys";
import { Mark } from "./shared/screen";
import { toggleTheme } from "./shared/theme";
import { SignInScreen } from "./sign-in/sign-in-screen";
import { SiteScreen } from "./site/site-screen";
import { VideoScreen } from "./video/video-screen";

/** People at a site come by a link and sign in nowhere. */
export function App() {
  return (
    <Routes>
      <Route path="/join/:code" element={<JoinScreen />} />
      <Route path="*" element={<SignedIn />} />
    </Routes>
  );
}

function SignedIn() {
  const session = useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      try {
        const found = await get("Session", "/api/session");
        keepCsrf(found.csrf);
        return found;
      } catch (error) {
        if (error instanceof ApiError && error.status === 401) return null;
        throw error;
      }
    },
    staleTime: 60_000,
  });
  if (session.isPending) return null;
  if (session.error) return <Alone>{session.error.message}</Alone>;
  if (!session.data) return <SignInScreen />;
  return (
    <Shell session={session.data}>
      <Routes>
        <Route path="/" element={<EngagementsScreen />} />
        <Route path="/engagements/:slug" element={<Keyed screen={EngagementScreen} />} />
        <Route path="/engagements/:slug/codecs" element={<Keyed screen={CodecValuesScreen} />} />
        <Route path="/engagements/:slug/new-site" element={<Keyed screen={NewSiteScreen} />} />
        <Route path="/sites/:slug/brief" element={<Keyed screen={BriefScreen} />} />
        <Route path="/sites/:slug/place" element={<Keyed screen={PlaceScreen} />} />
        <Route path="/sites/:slug/load" element={<Keyed screen={LoadScreen} />} />
        <Route path="/series/:id" element={<Keyed screen={SeriesScreen} />} />
        <Route path="/sites/:slug" element={<Keyed screen={SiteScreen} />} />
        <Route path="/sites/:slug/report" element={<Keyed screen={ReportScreen} />} />
        <Route path="/runs/:id" element={<Keyed screen={RunScreen} />} />
        <Route path="/sites/:slug/imports" element={<Keyed screen={ImportsScreen} />} />
        <Route path="/imports/:id" element={<Keyed screen={ImportScreen} />} />
        <Route path="/compare" element={<CompareScreen />} />
        <Route path="/videos/:id" element={<Keyed screen={VideoScreen} />} />
        <Route path="/calls/:id" element={<Keyed screen={CallScreen} />} />
        <Route path="/sign-in" element={<Navigate to="/" replace />} />
        <Route path="*" element={<Note>There is nothing at this address.</Note>} />
      </Routes>
    </Shell>
  );
}

/** A screen of one thing, started anew for another thing. */
function Keyed({ screen: Screen }: { screen: (props: { id: string }) => ReactNode }) {
  const { slug, id } = useParams();
  const key = slug ?? id ?? "";
  return <Screen key={key} id={key} />;
}

function Shell({ session, children }: { session: Model<"Session">; children: ReactNode }) {
  const signOut = async () => {
    await remove(null, "/api/session");
    // A fresh page keeps nothing of what the last person saw.
    location.assign("/");
  };
  return (
    <div className="mx-auto max-w-[1320px] min-w-[1024px] px-8 pb-24">
      <header className="flex items-center gap-6 pt-4 pb-3">
        <Link to="/" className="flex items-center gap-2.5 text-lg font-semibold tracking-tight">
          <Mark />
          Tarnfell
        </Link>
        <span className="flex-1" />
        <KeyHelp />
        <button type="button" className="text-sm hover:underline" onClick={toggleTheme}>
          Theme
        </button>
        <span className="text-sm text-soft">{session.name}</span>
        <button type="button" className="text-sm hover:underline" onClick={signOut}>
          Sign out
        </button>
      </header>
      <main>{children}</main>
    </div>
  );
}

function Alone({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto max-w-xl px-8 py-24">
      <Note>{children}</Note>
      <p className="mt-4">
        <Button onClick={() => location.reload()}>Ask again</Button>
      </p>
    </main>
  );
}
