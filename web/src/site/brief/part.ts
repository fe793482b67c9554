// What each part of the brief is given.
import type { Model } from "../../api/client";

export type Form = Model<"BriefForm">;
export type Page = Model<"BriefPage">;

export interface PartProps {
  form: Form;
  change: (part: Partial<Form>) => void;
}
