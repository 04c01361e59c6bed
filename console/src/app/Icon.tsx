interface IconProps {
  /** The path that draws it, in a square of 24 by 24 units. */
  of: string;
  /** Its height and width in pixels; as large as what holds it wants it where that is left out. */
  size?: number;
  /** What it says to who cannot see it, where nothing beside it says the same. */
  title?: string;
  colour?: string;
  /** For what holds it, which may want to place it. */
  className?: string;
}

/** A small picture, drawn as a plain element, as long lists have many of them. */
export function Icon({ of, size, title, colour, className = '' }: IconProps) {
  return (
    <svg className={`icon ${className}`} viewBox="0 0 24 24" aria-hidden={title ? undefined : true} role={title ? 'img' : undefined} style={{ fontSize: size, color: colour }}>
      {title && <title>{title}</title>}
      <path d={of} />
    </svg>
  );
}
