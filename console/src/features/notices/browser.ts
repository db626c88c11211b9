import { queryOptions, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, taken } from "../../api/client";

/** How often it is asked what is to be shown: a notice leaves within ten seconds. */
const EVERY = 5_000;

const toBeShown = queryOptions({
  queryKey: ["shown notices"],
  queryFn: () => taken(api.POST("/api/v1/notices/shown")),
  refetchInterval: EVERY,
  // Whoever looks at another window is the one to be told.
  refetchIntervalInBackground: true,
  retry: false,
});

/** Shows notices by the browser itself, while a page is open and where it may. Each goes to one page only. */
export function useBrowserNotices() {
  const isAllowed = "Notification" in window && Notification.permission === "granted";
  const { data } = useQuery({ ...toBeShown, enabled: isAllowed });
  useEffect(() => {
    for (const notice of data?.items ?? []) {
      const shown = new Notification(notice.subject, { body: notice.text, tag: `notice-${notice.id}` });
      shown.onclick = () => {
        window.focus();
        window.location.assign(notice.page);
      };
    }
  }, [data]);
}
