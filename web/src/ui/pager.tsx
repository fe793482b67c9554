// Pages of a long list: each named by what is on it.
interface PagerProps {
  page: number;
  size: number;
  total: number;
  onPage: (page: number) => void;
}

/** Around the current page, and the ends. */
const NEAR = 3;

export function Pager({ page, size, total, onPage }: PagerProps) {
  const pages = Math.ceil(total / size);
  if (pages < 2) return null;
  const shown = Array.from({ length: pages }, (_, i) => i).filter(
    (i) => i === 0 || i === pages - 1 || Math.abs(i - page) <= NEAR,
  );
  return (
    <nav aria-label="Pages" className="mt-3 flex flex-wrap gap-x-4 gap-y-1">
      {shown.map((i, at) => (
        <span key={i}>
          {at > 0 && i - (shown[at - 1] ?? 0) > 1 && <span className="mr-4 text-soft">…</span>}
          <button
            type="button"
            aria-current={i === page ? "page" : undefined}
            className={`min-h-6 min-w-6 ${i === page ? "font-semibold" : "underline underline-offset-3"}`}
            onClick={() => onPage(i)}
          >
            {i * size + 1}–{Math.min((i + 1) * size, total)}
          </button>
        </span>
      ))}
    </nav>
  );
}
