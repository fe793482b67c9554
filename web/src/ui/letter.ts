/** What became of a letter to somebody. */
export const LETTER = {
  waiting: "email on its way",
  sent: "emailed",
  failed: "the email did not go",
} as const;
