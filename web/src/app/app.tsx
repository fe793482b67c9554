// The shell: who is signed in, where one is, the theme, and the addresses of all screens. Each screen is fetched when
// it is first gone to.
import { useQuery } from "@tanstack/react-query";
import { type ComponentType, lazy, type ReactNode, Suspense, useEffect, useRef } from "react";
import { Link, Navigate, Route, Routes, useLocation, useParams } from "react-router";
import { ApiError, get, keepCsrf, type Model, remove } from "../api/client";
import { SignInScreen } from "../sign-in/sign-in-screen";
import { useAnchor } from "../ui/anchor";
import { Button, Loading, Note } from "../ui/controls";
import { KeyHelp } from "../ui/keys";
import { Mark } from "../ui/mark";
import { toggleTheme } from "../ui/theme";

type Screen = ComponentType<{ id: string }>;

const onDemand = <Name extends string>(load: () => Promise<Record<Name, Screen>>, name: Name) =>
  lazy(async () => ({ default: (await load())[name] }));

const brief = () => import("../site/brief/brief-screen");
const BriefScreen = onDemand(brief, "BriefScreen");
const NewSiteScreen = onDemand(brief, "NewSiteScreen");
const BrowserLinksScreen = onDemand(() => import("../site/place/browser-links-screen"), "BrowserLinksScreen");
const CallScreen = onDemand(() => import("../call/call-screen"), "CallScreen");
const CheckScreen = onDemand(() => import("../site/check/check-screen"), "CheckScreen");
const AccountScreen = onDemand(() => import("../people/account-screen"), "AccountScreen");
const PeopleScreen = onDemand(() => import("../people/people-screen"), "PeopleScreen");
const shown = () => import("../people/shown-screen");
const ShownListScreen = onDemand(shown, "ShownListScreen");
const ShownScreen = onDemand(shown, "ShownScreen");
const WelcomeScreen = onDemand(() => import("../join/welcome-screen"), "WelcomeScreen");
const AlertsScreen = onDemand(() => import("../engagement/alerts-screen"), "AlertsScreen");
const BrandScreen = onDemand(() => import("../engagement/brand-screen"), "BrandScreen");
const CodecValuesScreen = onDemand(() => import("../engagement/codec-values-screen"), "CodecValuesScreen");
const CompareReportsScreen = onDemand(() => import("../site/report/compare-reports"), "CompareReportsScreen");
const CompareScreen = onDemand(() => import("../site/judge/compare-screen"), "CompareScreen");
const EngagementScreen = onDemand(() => import("../engagement/engagement-screen"), "EngagementScreen");
const TodayScreen = onDemand(() => import("../today/today-screen"), "TodayScreen");
const ImportScreen = onDemand(() => import("../site/load/import-screen"), "ImportScreen");
const SurveyScreen = onDemand(() => import("../site/check/survey-screen"), "SurveyScreen");
const LookScreen = onDemand(() => import("../site/check/look-screen"), "LookScreen");
const FlowScreen = onDemand(() => import("../site/load/flow-screen"), "FlowScreen");
const LineScreen = onDemand(() => import("../site/load/line-screen"), "LineScreen");
const WatchScreen = onDemand(() => import("../site/watch/watch-screen"), "WatchScreen");
const ImportsScreen = onDemand(() => import("../site/load/imports-screen"), "ImportsScreen");
const JoinScreen = onDemand(() => import("../join/join-screen"), "JoinScreen");
const LoadScreen = onDemand(() => import("../site/load/load-screen"), "LoadScreen");
const PlaceScreen = onDemand(() => import("../site/place/place-screen"), "PlaceScreen");
const ReportScreen = onDemand(() => import("../site/report/report-screen"), "ReportScreen");
const RunScreen = onDemand(() => import("../run/run-screen"), "RunScreen");
const RunsScreen = onDemand(() => import("../run/runs-screen"), "RunsScreen");
const SeriesScreen = onDemand(() => import("../site/load/series-screen"), "SeriesScreen");
const SiteScreen = onDemand(() => import("../site/judge/site-screen"), "SiteScreen");
const WhatIfScreen = onDemand(() => import("../site/judge/what-if-screen"), "WhatIfScreen");
const VideoScreen = onDemand(() => import("../call/video-screen"), "VideoScreen");

/** People at a site come by a link and sign in nowhere; who is invited has no account yet. */
export function App() {
  return (
    <Suspense fallback={<Loading what="the page" />}>
      <Routes>
        <Route path="/join/:code" element={<JoinScreen id="" />} />
        <Route path="/invited/:code" element={<WelcomeScreen id="" />} />
        <Route path="/reset/:code" element={<WelcomeScreen id="" />} />
        <Route path="*" element={<SignedIn />} />
      </Routes>
    </Suspense>
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
      <Suspense fallback={<Loading what="the page" />}>
        {session.data.outside ? <Customers /> : <Everything />}
      </Suspense>
    </Shell>
  );
}

/** The addresses of whoever came as a customer: any other leads to what is shown to them. */
function Customers() {
  return (
    <Routes>
      <Route path="/account" element={<AccountScreen id="" />} />
      <Route path="/reports/compare" element={<CompareReportsScreen id="" />} />
      <Route path="/engagements/:slug/shown" element={<Keyed screen={ShownScreen} />} />
      <Route path="*" element={<ShownListScreen id="" />} />
    </Routes>
  );
}

function Everything() {
  return (
    <Routes>
      <Route path="/account" element={<AccountScreen id="" />} />
      <Route path="/engagements/:slug/shown" element={<Keyed screen={ShownScreen} />} />
      <Route path="/" element={<TodayScreen id="" />} />
      <Route path="/shown" element={<ShownListScreen id="" />} />
      <Route path="/engagements/:slug/people" element={<Keyed screen={PeopleScreen} />} />
      <Route path="/engagements/:slug" element={<Keyed screen={EngagementScreen} />} />
      <Route path="/engagements/:slug/alerts" element={<Keyed screen={AlertsScreen} />} />
      <Route path="/engagements/:slug/brand" element={<Keyed screen={BrandScreen} />} />
      <Route path="/engagements/:slug/codecs" element={<Keyed screen={CodecValuesScreen} />} />
      <Route path="/engagements/:slug/new-site" element={<Keyed screen={NewSiteScreen} />} />
      <Route path="/sites/:slug/brief" element={<Keyed screen={BriefScreen} />} />
      <Route path="/sites/:slug/place" element={<Keyed screen={PlaceScreen} />} />
      <Route path="/sites/:slug/browser-tests" element={<Keyed screen={BrowserLinksScreen} />} />
      <Route path="/sites/:slug/check" element={<Keyed screen={CheckScreen} />} />
      <Route path="/sites/:slug/survey" element={<Keyed screen={SurveyScreen} />} />
      <Route path="/sites/:slug/look" element={<Keyed screen={LookScreen} />} />
      <Route path="/sites/:slug/load" element={<Keyed screen={LoadScreen} />} />
      <Route path="/series/:id" element={<Keyed screen={SeriesScreen} />} />
      <Route path="/sites/:slug" element={<Keyed screen={SiteScreen} />} />
      <Route path="/sites/:slug/what-if" element={<Keyed screen={WhatIfScreen} />} />
      <Route path="/sites/:slug/report" element={<Keyed screen={ReportScreen} />} />
      <Route path="/sites/:slug/runs" element={<Keyed screen={RunsScreen} />} />
      <Route path="/runs/:id" element={<Keyed screen={RunScreen} />} />
      <Route path="/sites/:slug/packets" element={<Keyed screen={FlowScreen} />} />
      <Route path="/sites/:slug/watch" element={<Keyed screen={WatchScreen} />} />
      <Route path="/sites/:slug/line" element={<Keyed screen={LineScreen} />} />
      <Route path="/sites/:slug/imports" element={<Keyed screen={ImportsScreen} />} />
      <Route path="/imports/:id" element={<Keyed screen={ImportScreen} />} />
      <Route path="/compare" element={<CompareScreen id="" />} />
      <Route path="/reports/compare" element={<CompareReportsScreen id="" />} />
      <Route path="/videos/:id" element={<Keyed screen={VideoScreen} />} />
      <Route path="/calls/:id" element={<Keyed screen={CallScreen} />} />
      <Route path="/sign-in" element={<Navigate to="/" replace />} />
      <Route path="*" element={<Note>There is nothing at this address.</Note>} />
    </Routes>
  );
}

/** A screen of one thing, started anew for another thing. */
function Keyed({ screen: Screen }: { screen: Screen }) {
  const { slug, id } = useParams();
  const key = slug ?? id ?? "";
  return <Screen key={key} id={key} />;
}

function Shell({ session, children }: { session: Model<"Session">; children: ReactNode }) {
  const main = useRef<HTMLElement>(null);
  const { pathname } = useLocation();
  const came = useRef(pathname);
  useEffect(() => {
    // After a move to another screen the next Tab begins at that screen, and a screen reader reads it.
    if (came.current !== pathname) {
      main.current?.focus({ preventScroll: true });
      scrollTo(0, 0);
    }
    came.current = pathname;
  }, [pathname]);
  useAnchor();
  const signOut = async () => {
    await remove(null, "/api/session");
    // A fresh page keeps nothing of what the last person saw.
    location.assign("/");
  };
  return (
    <div className="mx-auto max-w-[1320px] px-4 pb-24 sm:px-8">
      <a
        href="#main"
        className="absolute -top-20 left-4 z-30 border border-ink bg-raised px-4 py-2 font-semibold focus:top-2"
      >
        Skip to the content
      </a>
      <header className="flex flex-wrap items-center gap-x-6 gap-y-1 pt-4 pb-3">
        <Link to="/" className="flex items-center gap-2.5 text-lg font-semibold tracking-tight">
          <Mark />
          Tarnfell
        </Link>
        <span className="flex-1" />
        <KeyHelp />
        <button type="button" className="py-0.5 text-sm hover:underline" onClick={toggleTheme}>
          Theme
        </button>
        <Link to="/account" className="py-0.5 text-sm text-soft hover:underline">
          {session.name}
        </Link>
        <button type="button" className="py-0.5 text-sm hover:underline" onClick={signOut}>
          Sign out
        </button>
      </header>
      <main id="main" ref={main} tabIndex={-1} className="outline-none">
        {children}
      </main>
    </div>
  );
}

function Alone({ children }: { children: ReactNode }) {
  return (
    <main className="mx-auto max-w-xl px-8 py-24">
      <Note>{children}</Note>
      <p className="mt-4">
        <Button onClick={() => location.reload()}>Retry</Button>
      </p>
    </main>
  );
}
