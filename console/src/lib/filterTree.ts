/** A filter as groups of conditions, to be built by hand, and back as text. */

export interface Condition {
  kind: "condition";
  attribute: string;
  comparison: string;
  value: string;
  /** Whether the value is text; numbers, true and false are written without quotation marks. */
  text: boolean;
  denied: boolean;
}

export interface Group {
  kind: "group";
  join: "all" | "any";
  parts: Node[];
  denied: boolean;
}

export type Node = Condition | Group;

/** How conditions compare, in the words of the builder. */
export const COMPARISONS: readonly (readonly [comparison: string, word: string])[] = [
  ["eq", "is"],
  ["ne", "is not"],
  ["co", "contains"],
  ["sw", "begins with"],
  ["ew", "ends with"],
  ["ge", "at least"],
  ["le", "at most"],
  ["gt", "more than"],
  ["lt", "less than"],
  ["pr", "is there"],
];

export function emptyCondition(): Condition {
  return { kind: "condition", attribute: "", comparison: "eq", value: "", text: true, denied: false };
}

export function group(parts: Node[], join: Group["join"] = "all"): Group {
  return { kind: "group", join, parts, denied: false };
}

/** A filter as the service tells it. */
interface Tree {
  all?: Tree[];
  any?: Tree[];
  not?: [Tree];
  attribute?: string;
  comparison?: string;
  value?: string | number | boolean | null;
}

/** What the service says a filter is, as the outermost group; an empty one for no filter. */
export function fromTree(tree: object | null | undefined): Group {
  if (!tree) return group([]);
  const node = read(tree, false);
  return node.kind === "group" && !node.denied ? node : group([node]);
}

function read(tree: Tree, denied: boolean): Node {
  if (tree.not) return read(tree.not[0], !denied);
  const parts = tree.all ?? tree.any;
  if (parts) return { kind: "group", join: tree.all ? "all" : "any", parts: parts.map((p) => read(p, false)), denied };
  const { attribute = "", comparison = "eq", value } = tree;
  const present = comparison === "pr";
  return {
    kind: "condition",
    attribute,
    comparison,
    value: present ? "" : String(value),
    text: present || typeof value === "string",
    denied,
  };
}

/** Whether a filter can be written of it: what is half filled in is left out. */
function whole(node: Node): boolean {
  if (node.kind === "group") return node.parts.some(whole);
  return /^[A-Za-z_][\w.:/@-]*$/.test(node.attribute) && (node.comparison === "pr" || node.value !== "");
}

/** The filter language's text of a group; empty when there is nothing in it. */
export function toText(node: Node): string {
  return whole(node) ? written(node, true) : "";
}

function written(node: Node, outermost: boolean): string {
  if (node.kind === "condition") {
    const plain =
      node.comparison === "pr"
        ? `${node.attribute} pr`
        : `${node.attribute} ${node.comparison} ${node.text ? JSON.stringify(node.value) : node.value}`;
    return node.denied ? `not (${plain})` : plain;
  }
  const parts = node.parts.filter(whole);
  const inner = parts.map((one) => written(one, false)).join(node.join === "all" ? " and " : " or ");
  if (node.denied) return `not (${inner})`;
  return outermost || parts.length === 1 ? inner : `(${inner})`;
}

/** A value as it is typed: one that is compared by size and reads as a number is one. */
export function typed(condition: Condition, value: string): Condition {
  const sized = ["gt", "ge", "lt", "le"].includes(condition.comparison);
  const number = /^-?\d+(\.\d+)?$/.test(value.trim());
  return { ...condition, value, text: !(number && (sized || !condition.text)) };
}
