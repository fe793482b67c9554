// What each measure is, how it is computed, what is good. The same texts explain it wherever it appears.

export interface Entry {
  title: string;
  what: string;
  how: string;
  good: string;
}

export const GLOSSARY = {
  mos: {
    title: "MOS",
    what: "Mean opinion score: how people would rate the call, 1 to 5.",
    how: "Estimated by the E-model from delay, loss and codec: MOS-CQEN for narrowband codecs (ITU-T G.107), MOS-CQEW for wideband ones (G.107.1).",
    good: "4.0 and more is good. Below 3.6 many are dissatisfied.",
  },
  mosWide: {
    title: "Wideband MOS",
    what: "The same call as rated by people who are used to wideband sound.",
    how: "From the same R by the cubic at R/1.29 (after ITU-T G.107.1); scale MOS-CQEW.",
    good: "The best narrowband call reaches about 3.7 here, the best wideband one at 4.5. Never compare it with the other scale.",
  },
  rfc3611: {
    title: "Bursts, gaps",
    what: "How losses cluster: stretches with many (bursts) and the stretches between (gaps).",
    how: "RFC 3611 §4.7.2 with Gmin 16, over what the listener missed: mean length and loss density.",
    good: "No burst. One loss alone is concealed, a burst of 100 ms is a swallowed syllable.",
  },
  ipdv: {
    title: "IPDV",
    what: "How far the delay of one packet differs from the one before it.",
    how: "99th percentile of the change, up or down (RFC 3393 IPDV).",
    good: "Under 20 ms.",
  },
  loss: {
    title: "Loss",
    what: "Packets that never arrived, or not within two seconds after the last was sent.",
    how: "Lost over sent (RFC 7680).",
    good: "Under 0.5 % goes unnoticed with concealment; bursts hurt more than single losses.",
  },
  late: {
    title: "Late",
    what: "Packets that came after they should have been played. The listener misses them like lost ones.",
    how: "Delay more than the buffer's depth above the fastest packet.",
    good: "None. A deeper buffer saves some of them at the price of delay.",
  },
  delay: {
    title: "One-way delay",
    what: "Time from leaving one end to arriving at the other.",
    how: "Median of all packets; the two clocks are put on one scale by a time-stamp exchange (RFC 8762).",
    good: "Up to 100 ms goes unnoticed. Beyond 150 ms mouth-to-ear, people start to talk over each other.",
  },
  added: {
    title: "Added delay",
    what: "Delay above the idle delay: packets queued.",
    how: "A call’s median delay minus the lowest tenth of all calls’ on the same path and direction.",
    good: "A few milliseconds. Over 40 ms that stay are a filled queue.",
  },
  pdv: {
    title: "Packet delay variation (PDV)",
    what: "How far packets fall behind the fastest one.",
    how: "95th percentile of delay minus its minimum (RFC 5481).",
    good: "Less than the listener's buffer, 60 ms unless set otherwise.",
  },
  jitter: {
    title: "Jitter",
    what: "How unevenly consecutive packets arrive.",
    how: "The running estimate of RFC 3550 A.8; the highest it reached.",
    good: "Under 20 ms. It says nothing of slow swings of delay.",
  },
  burst: {
    title: "Burst ratio",
    what: "Whether losses come alone or in runs.",
    how: "Mean run length of losses over that of random loss (G.107 BurstR).",
    good: "1 is random. 2 and more is audible as gaps.",
  },
  marking: {
    title: "Marking",
    what: "The DSCP in each packet, by which a network can give calls priority.",
    how: "Value sent against values received.",
    good: "Received as sent. 46 (EF) is usual for voice.",
  },
  picture: {
    title: "Picture score",
    what: "How smooth the picture looks to a viewer, 1 to 5. Tarnfell's own: no standard defines it, and it is no MOS.",
    how: "1 + 4·exp(−missed/10 − frozen/6): percent of frames not shown, percent of time the picture was frozen.",
    good: "4 and more looks smooth. Below 2.5 people ask what happened to your picture.",
  },
  wholeFrames: {
    title: "Whole frames",
    what: "Frames of which every packet came in time. One missing packet breaks its frame.",
    how: "Packets within the buffer of the fastest one; frames cut as the profile cuts them.",
    good: "All. A broken frame spoils those after it until the picture is refreshed.",
  },
  freeze: {
    title: "Freezes",
    what: "Stretches in which the picture was frozen.",
    how: "One frame shown for three times its interval, or for 150 ms beyond it (W3C webrtc-stats, freezeCount).",
    good: "None. A freeze of half a second is noticed by everybody.",
  },
  share: {
    title: "Share of acceptable calls",
    what: "Calls of which both directions reached the target.",
    how: "Mean over ten-minute moments of business hours, with its 95 % interval. Calls within one moment meet the same network and count as one observation (Clopper–Pearson on the effective number of moments).",
    good: "The whole interval above what the brief requires.",
  },
  sustained: {
    title: "Concurrent calls shown",
    what: "The most concurrent calls whose share of acceptable calls reaches the brief’s at 95 % confidence.",
    how: "From calls in business hours; more load never serves calls better, so what is shown at a load is shown at smaller ones. “Observed” is as measured, however little it rests on.",
    good: "At least what the brief needs.",
  },
} satisfies Record<string, Entry>;

export type Measure = keyof typeof GLOSSARY;
