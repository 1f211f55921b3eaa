//! Something that is changed move by move: each move can be undone, and made again.

/// Moves that can be undone.
const MOST: usize = 200;

/// What stands, and the moves that led to it.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Moves<T> {
    now: T,
    before: Vec<T>,
    undone: Vec<T>,
}

impl<T: PartialEq> Moves<T> {
    /// Begins with `now`: nothing is to be undone.
    pub(crate) const fn new(now: T) -> Self {
        Self { now, before: Vec::new(), undone: Vec::new() }
    }

    /// What stands.
    pub(crate) const fn now(&self) -> &T {
        &self.now
    }

    /// Makes a move, unless it changes nothing; whether it did. What was undone is gone then.
    pub(crate) fn make(&mut self, next: T) -> bool {
        if next == self.now {
            return false;
        }
        if self.before.len() == MOST {
            self.before.remove(0);
        }
        self.before.push(std::mem::replace(&mut self.now, next));
        self.undone.clear();
        true
    }

    /// Takes the last move back; whether there was one.
    pub(crate) fn undo(&mut self) -> bool {
        let Some(before) = self.before.pop() else { return false };
        self.undone.push(std::mem::replace(&mut self.now, before));
        true
    }

    /// Makes the move again that was taken back last; whether there was one.
    pub(crate) fn redo(&mut self) -> bool {
        let Some(after) = self.undone.pop() else { return false };
        self.before.push(std::mem::replace(&mut self.now, after));
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_so_many_moves_can_be_undone_and_a_new_one_ends_what_was_undone() {
        let mut moves = Moves::new(0);
        assert!(!moves.make(0) && !moves.undo());
        assert!((1..=MOST + 5).all(|next| moves.make(next)));
        assert_eq!((0..MOST + 5).filter(|_| moves.undo()).count(), MOST);
        assert_eq!(*moves.now(), 5);
        assert!(moves.redo() && moves.make(99) && !moves.redo());
        assert_eq!(*moves.now(), 99);
    }
}
